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
		name: "map", args: "CONFIG", summary: "the picture: frontends, routes, upstreams, backends",
		help: `
-format is text (a tree), dot (for graph drawing), svg or json.

  kestrix map harbour.hcl
  kestrix map harbour.hcl -format svg -o harbour.svg`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			all := fs.Bool("all", false, "every backend of long upstreams")
			with := withFlag(fs)
			return func(_ context.Context, env *Env, args []string) error {
				if err := formOf("map", o.format); err != nil {
					return err
				}
				if len(args) != 1 {
					return usage("one configuration is wanted: kestrix map CONFIG")
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
						style := env.style(env.Stdout, o.noColour || o.file != "")
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
