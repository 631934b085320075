// Package docs holds the files of this folder that the program carries with it.
package docs

import "embed"

// Host are the files for the machine that serves: a unit file and what moves
// logs away.
//
//go:embed kestrix.service kestrix.logrotate
var Host embed.FS
