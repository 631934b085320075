// Package packaging holds the files that surround the program on a machine that serves: units,
// users, folders, log rotation and a first configuration. The command install-files writes
// them, and packages contain them as it does. It must never hold anything that is made on the
// machine itself.
package packaging

import "embed"

// Files are those that the program carries.
//
//go:embed kestrix.service kestrix.socket kestrix.sysusers kestrix.tmpfiles kestrix.logrotate site.hcl
var Files embed.FS
