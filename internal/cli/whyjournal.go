package cli

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"kestrix/internal/live/journal"
	"kestrix/internal/report"
)

// pastFlags ask a journal, or a running proxy, of a past request.
type pastFlags struct {
	file    string
	request string
	verify  bool
	live    operatorFlags
}

func (p *pastFlags) define(fs *flag.FlagSet) {
	fs.StringVar(&p.file, "journal", "", "journal `FILE` of serve -journal, to explain a past request")
	fs.StringVar(&p.request, "request", "", "`ID` of the request, from its line in the access log: of a journal its id, of a running proxy also its request_id")
	fs.BoolVar(&p.verify, "verify", false, "decide everything in the journal again and report differences")
}

// given reports whether a past request is asked about.
func (p *pastFlags) given() bool { return p.file != "" || p.verify || p.request != "" }

func (p *pastFlags) run(ctx context.Context, env *Env, o *output, fs *flag.FlagSet, args []string) error {
	if p.file == "" {
		return p.runLive(ctx, env, o, fs, args)
	}
	idle := idleBeside(fs, "journal", "request", "verify", "format", "o", "plain")
	id, err := strconv.ParseUint(p.request, 10, 64)
	switch {
	case len(args) > 0:
		return usage("a journal is asked without operands; here is %s", args[0])
	case idle != "":
		return usage("-%s has no meaning beside -journal", idle)
	case p.verify == (p.request != ""):
		return usage("-journal needs -request ID or -verify")
	case !p.verify && err != nil:
		return usage("-request cannot be %q with a journal, which has the number at the end of the line in the access log", p.request)
	}
	j, err := readJournal(p.file)
	if err != nil {
		return unusable(err)
	}
	if p.verify {
		return p.again(env, o, j)
	}
	story, err := j.Story(id)
	if err != nil {
		return unusable(fmt.Errorf("%s: %w", p.file, err))
	}
	return o.write(env, func(w io.Writer) error {
		if o.format == "json" {
			return writeJSON(w, struct {
				Request uint64           `json:"request"`
				Whole   bool             `json:"whole"` // the journal has its beginning
				Story   []journal.Moment `json:"story"`
			}{id, j.Whole(), story})
		}
		var told []report.PastMoment
		for _, m := range story {
			x := report.PastMoment{At: m.At, Upstream: m.Upstream, Call: m.Call, Attempt: m.Attempt, Backend: m.Backend, Reason: m.Reason, Outcome: m.Outcome, Again: m.Again}
			for _, b := range m.Backends {
				x.Backends = append(x.Backends, report.PastBackend(b))
			}
			told = append(told, x)
		}
		_, err := io.WriteString(w, o.style(env).Past(id, told, j.Whole()))
		return err
	})
}

// runLive asks a running proxy.
func (p *pastFlags) runLive(ctx context.Context, env *Env, o *output, fs *flag.FlagSet, args []string) error {
	idle := idleBeside(fs, "request", "at", "ca", "user", "format", "o", "plain")
	switch {
	case p.verify:
		return usage("-verify is of a journal; -journal names it")
	case idle != "":
		return usage("-%s has no meaning beside -request", idle)
	case len(args) > 1:
		return usage("a running proxy is asked with at most one operand: kestrix why [CONFIG] -request ID")
	}
	return liveRequest(ctx, env, &p.live, o, append(args, "")[0], p.request)
}

// idleBeside returns a flag that was given and is none of certain ones, empty for none.
func idleBeside(fs *flag.FlagSet, known ...string) (idle string) {
	fs.Visit(func(f *flag.Flag) {
		if !slices.Contains(known, f.Name) {
			idle = f.Name
		}
	})
	return idle
}

// readJournal reads a journal from the part that is named, or where that is gone the first
// there is, to its last.
func readJournal(name string) (*journal.Journal, error) {
	parts := partsOf(name)
	if ends := filepath.Ext(name); ends != "" {
		base := strings.TrimSuffix(name, ends)
		all := partsOf(base)
		if part, err := strconv.Atoi(ends[1:]); err == nil && slices.Contains(all, part) {
			name, parts = base, all[slices.Index(all, part):]
		}
	}
	if len(parts) == 0 {
		parts = []int{1} // which cannot be read
	}
	var whole *journal.Journal
	for _, part := range parts {
		f, err := os.Open(partName(name, part))
		if err != nil {
			return nil, fmt.Errorf("%s cannot be read: %w", name, reason(err))
		}
		j, err := journal.Read(f)
		f.Close()
		switch {
		case err != nil:
			return nil, fmt.Errorf("%s:%w", partName(name, part), err)
		case whole == nil:
			whole = j
		default:
			if err := whole.Append(j); err != nil {
				return nil, fmt.Errorf("%s: %w", partName(name, part), err)
			}
		}
	}
	return whole, nil
}

// again verifies a journal.
func (p *pastFlags) again(env *Env, o *output, j *journal.Journal) error {
	if !j.Whole() {
		return unusable(fmt.Errorf("%s: its beginning is gone, as serve -journal-size says, and without it no core can decide the same again: nothing is verified", p.file))
	}
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
