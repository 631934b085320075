package cli

import (
	"context"
	"flag"
	"fmt"
	"io"

	"kestrix/internal/report"
)

func statusCommand() *command {
	return &command{
		name: "status", args: "[CONFIG]", summary: "how a running proxy stands",
		help: `
Asks the control of a running proxy: that of a configuration, of -at, or the usual
socket. Rates are of the last ten seconds, counts since the proxy began or was told
to count anew; p50 and p99 are of the last five minutes.

exit code: 0 every upstream has a backend in rotation; 1 one has none; 3 the proxy
cannot be asked, or does not answer within 3 s

  kestrix status
  kestrix status harbour.hcl -all
  kestrix status harbour.hcl -format csv
  kestrix status -at 127.0.0.1:9900`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var f operatorFlags
			f.define(fs)
			var o output
			o.define(fs)
			all := fs.Bool("all", false, "every backend of long upstreams, and all there is of each: statuses, bytes, sessions, the last probe")
			return func(ctx context.Context, env *Env, args []string) error {
				switch o.format {
				case "text", "json", "csv":
				default:
					return usage("-format cannot be %q; it is text, csv or json", o.format)
				}
				if err := places(o.file); err != nil {
					return err
				}
				if len(args) > 1 {
					return usage("at most one configuration is wanted: kestrix status [CONFIG]")
				}
				c, err := f.client(env, append(args, "")[0])
				if err != nil {
					return err
				}
				s, err := c.Status(ctx)
				if err != nil {
					return unusable(err)
				}
				if s.Version != Version {
					fmt.Fprintf(env.Stderr, "kestrix status: the proxy is version %s, this is %s; what one of them does not know is left out\n", s.Version, Version)
				}
				err = o.write(env, func(out io.Writer) error {
					switch o.format {
					case "json":
						return writeJSON(out, s)
					case "csv":
						return report.StatusCSV(out, s)
					}
					style := env.style(env.Stdout, o.noColour || o.file != "")
					style.All = *all
					_, err := io.WriteString(out, style.Status(s, c.Where))
					return err
				})
				if err == nil && s.Unserved() {
					return &exitError{exitFound, nil}
				}
				return err
			}
		},
	}
}
