package cli

import (
	"flag"
	"fmt"
	"io"
	"os"
	"slices"

	"kestrix/internal/live/journal"
	"kestrix/internal/report"
)

// pastFlags ask a journal of a past request.
type pastFlags struct {
	file    string
	request seedFlag
	verify  bool
}

func (p *pastFlags) define(fs *flag.FlagSet) {
	fs.StringVar(&p.file, "journal", "", "`FILE` that serve -journal wrote, to tell of a past request")
	fs.Var(&p.request, "request", "`ID` of that request, as its access line has it")
	fs.BoolVar(&p.verify, "verify", false, "have the core decide all of the journal again")
}

func (p *pastFlags) run(env *Env, o *output, fs *flag.FlagSet, args []string) error {
	var idle string
	fs.Visit(func(f *flag.Flag) {
		if !slices.Contains([]string{"journal", "request", "verify", "format", "o", "plain"}, f.Name) {
			idle = f.Name
		}
	})
	switch {
	case p.file == "":
		return usage("-request and -verify are of a journal; -journal names it")
	case len(args) > 0:
		return usage("a journal is asked without operands; here is %s", args[0])
	case idle != "":
		return usage("-%s has no meaning beside -journal", idle)
	case p.verify == p.request.given:
		return usage("beside -journal, -request ID or -verify is wanted")
	}
	f, err := os.Open(p.file)
	if err != nil {
		return unusable(fmt.Errorf("%s cannot be read: %w", p.file, reason(err)))
	}
	defer f.Close()
	j, err := journal.Read(f)
	if err != nil {
		return unusable(fmt.Errorf("%s:%w", p.file, err))
	}
	if p.verify {
		return p.again(env, o, j)
	}
	story, err := j.Story(p.request.value)
	if err != nil {
		return unusable(fmt.Errorf("%s: %w", p.file, err))
	}
	return o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, struct {
				Request uint64           `json:"request"`
				Story   []journal.Moment `json:"story"`
			}{p.request.value, story})
		}
		var told []report.PastMoment
		for _, m := range story {
			x := report.PastMoment{At: m.At, Upstream: m.Upstream, Call: m.Call, Attempt: m.Attempt, Backend: m.Backend, Reason: m.Reason, Outcome: m.Outcome, Again: m.Again}
			for _, b := range m.Backends {
				x.Backends = append(x.Backends, report.PastBackend(b))
			}
			told = append(told, x)
		}
		_, err := io.WriteString(w, env.style(env.Stdout, o.noColour || o.file != "").Past(p.request.value, told))
		return err
	})
}

// again verifies a journal.
func (p *pastFlags) again(env *Env, o *output, j *journal.Journal) error {
	err := journal.Verify(j.Entries, j.Seed)
	said := fmt.Sprintf("%s: %s, seed %d, written by version %s; the core decides all of it again as it did", p.file, report.Count(int64(len(j.Entries)))+" entries", j.Seed, j.Version)
	if err != nil {
		said = fmt.Sprintf("%s: %v", p.file, err)
	}
	if j.Cut {
		said += "; its last line is not whole, as of a proxy that still writes"
	}
	werr := o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, struct {
				Entries int    `json:"entries"`
				Seed    uint64 `json:"seed"`
				Same    bool   `json:"same"`
				Said    string `json:"said"`
			}{len(j.Entries), j.Seed, err == nil, said})
		}
		_, err := fmt.Fprintln(w, said)
		return err
	})
	if werr == nil && err != nil {
		return &exitError{exitFound, nil}
	}
	return werr
}
