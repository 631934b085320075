package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"runtime/debug"
)

// Version is the version of the program.
const Version = "0.1.0"

func versionCommand() *command {
	return &command{
		name: "version", group: "the program", summary: "print the version, the commit, the compiler and the platform",
		help: `
examples:
  kestrix version
  kestrix version -format json`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			return func(_ context.Context, env *Env, args []string) error {
				if len(args) > 0 {
					return usage("version takes no operand %q", args[0])
				}
				if err := o.check(); err != nil {
					return err
				}
				b := thisBuild()
				return o.write(env, func(w io.Writer) error {
					if o.format == "json" {
						return writeJSON(w, b)
					}
					_, err := fmt.Fprintln(w, b)
					return err
				})
			}
		},
	}
}

// build is what is known of how the program was built.
type build struct {
	Version  string `json:"version"`
	Commit   string `json:"commit"`   // empty where it was not built from a checkout
	Date     string `json:"date"`     // of the commit, RFC 3339; likewise
	Modified bool   `json:"modified"` // the checkout had changes
	Go       string `json:"go"`
	Platform string `json:"platform"` // as linux/amd64
}

// thisBuild returns how this program was built.
func thisBuild() build {
	info, _ := debug.ReadBuildInfo()
	return buildOf(info)
}

// buildOf returns what the build information says.
func buildOf(info *debug.BuildInfo) build {
	b := build{Version: Version}
	if info == nil {
		return b
	}
	vcs := map[string]string{}
	for _, s := range info.Settings {
		vcs[s.Key] = s.Value
	}
	b.Commit, b.Date, b.Modified = vcs["vcs.revision"], vcs["vcs.time"], vcs["vcs.modified"] == "true"
	b.Go, b.Platform = info.GoVersion, vcs["GOOS"]+"/"+vcs["GOARCH"]
	return b
}

// String returns the build in a line.
func (b build) String() string {
	out := "kestrix " + b.Version
	if b.Commit != "" {
		out += ", commit " + b.Commit[:min(len(b.Commit), 12)] + " of " + b.Date[:min(len(b.Date), 10)]
		if b.Modified {
			out += " with changes"
		}
	}
	if b.Go != "" {
		out += ", " + b.Go + " " + b.Platform
	}
	return out
}
