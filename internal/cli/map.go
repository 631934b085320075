package cli

import (
	"context"
	"flag"
	"io"
	"path/filepath"

	"kestrix/internal/core/study"
	"kestrix/internal/report"
)

func mapCommand() *command {
	return &command{
		name: "map", group: "write and check", args: "CONFIG",
		summary: "draw frontends, routes, upstreams and backends",
		help: `
examples:
  kestrix map harbour.hcl
  kestrix map harbour.hcl -format svg -o harbour.svg`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			all := fs.Bool("all", false, "list every backend of long upstreams")
			with := withFlag(fs)
			return func(_ context.Context, env *Env, args []string) error {
				if err := formOf("map", o.format); err != nil {
					return err
				}
				if len(args) != 1 {
					return usage("one configuration is required: kestrix map CONFIG")
				}
				s, err := usable(env, args[0], *with)
				if err != nil {
					return err
				}
				p := study.Draw(s.config)
				return o.write(env, func(w io.Writer) error {
					var text string
					switch o.format {
					case "json":
						return writeJSON(w, p)
					case "dot":
						text = report.MapDot(p)
					case "svg":
						text = report.MapSVG(filepath.Base(args[0]), p)
					default:
						style := o.style(env)
						style.All = *all
						text = style.Map(p)
					}
					_, err := io.WriteString(w, text)
					return err
				})
			}
		},
	}
}
