//go:build !amd64

package scan

// mark notes where the quotes, backslashes and ends of lines are, and where the
// spaces; it returns how many entries of the tape it has written.
func mark(text []byte, tape []uint32, spaces []uint64) int { return markPlain(text, tape, spaces) }
