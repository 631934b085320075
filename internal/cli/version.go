package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"runtime/debug"

	"kestrix/internal/report"
)

// Version is the version of the program.
const Version = "0.2.0"

func versionCommand() *command {
	return &command{
		name: "version", group: "the program", summary: "print the version, the commit, the compiler and the platform",
		help: `
With -compatible it says instead which parts of a configuration this version refuses,
because they were renamed or removed or because it does not know them. It also lists
defaults and meanings that changed. Whether the rest is right, kestrix check says.

exit code:
  0  nothing is refused
  1  something is
  2  wrong usage
  3  the configuration cannot be read

examples:
  kestrix version
  kestrix version -format json
  kestrix version -compatible harbour.hcl`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			compatible := fs.String("compatible", "", "`CONFIG` to hold against what this version renamed, removed and changed")
			return func(_ context.Context, env *Env, args []string) error {
				if len(args) > 0 {
					return usage("version takes no operand %q", args[0])
				}
				if err := o.check(); err != nil {
					return err
				}
				asked := false
				fs.Visit(func(x *flag.Flag) { asked = asked || x.Name == "compatible" })
				if asked {
					return sayCompatible(env, &o, *compatible)
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

// sayCompatible says what this version has against a configuration of another.
func sayCompatible(env *Env, o *output, name string) error {
	s, err := readConfig(name, nil)
	if err != nil {
		return err
	}
	x := report.NewCompatibility(Version, name, s.config, s.found)
	err = o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, x)
		}
		_, err := io.WriteString(w, o.style(env).Compatibility(x))
		return err
	})
	if err == nil && len(x.Refused) > 0 {
		return &exitError{exitFound, nil}
	}
	return err
}

// build is what is known of how the program was built.
type build struct {
	Version  string   `json:"version"`
	Commit   string   `json:"commit"`   // empty where it was not built from a checkout
	Date     string   `json:"date"`     // of the commit, RFC 3339; likewise
	Modified bool     `json:"modified"` // the checkout had changes
	Go       string   `json:"go"`
	Platform string   `json:"platform"` // as linux/amd64
	Modules  []module `json:"modules"`  // that are part of it, in the order of their paths
}

// module is one whose packages the program holds.
type module struct {
	Path    string `json:"path"`
	Version string `json:"version"`
	Sum     string `json:"sum"` // as in go.sum; empty for one that is replaced by a folder
}

// thisBuild returns how this program was built.
func thisBuild() build {
	info, _ := debug.ReadBuildInfo()
	return buildOf(info)
}

// buildOf returns what the build information says.
func buildOf(info *debug.BuildInfo) build {
	b := build{Version: Version, Modules: []module{}}
	if info == nil {
		return b
	}
	vcs := map[string]string{}
	for _, s := range info.Settings {
		vcs[s.Key] = s.Value
	}
	b.Commit, b.Date, b.Modified = vcs["vcs.revision"], vcs["vcs.time"], vcs["vcs.modified"] == "true"
	for _, m := range info.Deps {
		if m.Replace != nil {
			m = m.Replace
		}
		b.Modules = append(b.Modules, module{m.Path, m.Version, m.Sum})
	}
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
