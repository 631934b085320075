//go:build race

package proxy

func init() { underRace = true }
