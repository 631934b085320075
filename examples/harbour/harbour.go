// Package harbour holds the files of the demo: the booking site of Tern Line, a
// made-up ferry company.
package harbour

import "embed"

// Files are the demo's files as they are written out by `kestrix demo`.
//
//go:embed *.hcl steps/*.hcl morning.log
var Files embed.FS
