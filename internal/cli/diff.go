package cli

import (
	"context"
	"flag"
	"io"

	"kestrix/internal/core/study"
)

func diffCommand() *command {
	return &command{
		name: "diff", args: "OLD NEW", summary: "what a change does: requests that go elsewhere, clients that move",
		help: `
Every route of either side is tried with a request of its own, so that what goes
elsewhere comes with a witness; how many clients move is reckoned by the core.

exit code: 0 nothing changes for traffic; 1 something does; 2 wrong usage;
3 a configuration that cannot be used

  kestrix diff harbour.hcl harbour-new.hcl`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var o output
			o.define(fs)
			return func(_ context.Context, env *Env, args []string) error {
				if err := o.check(); err != nil {
					return err
				}
				if len(args) != 2 {
					return usage("two configurations are wanted: kestrix diff OLD NEW")
				}
				old, err := usable(env, args[0], nil)
				if err != nil {
					return err
				}
				now, err := usable(env, args[1], nil)
				if err != nil {
					return err
				}
				d := study.Compare(old.config, now.config)
				err = o.write(env, func(w io.Writer) error {
					if o.format == "json" {
						return writeJSON(w, d)
					}
					_, err := io.WriteString(w, env.style(env.Stdout, o.plain || o.file != "").Diff(args[0], args[1], d))
					return err
				})
				if err == nil && d.Changed() {
					return &exitError{exitFound, nil}
				}
				return err
			}
		},
	}
}
