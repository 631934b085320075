package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"

	"github.com/rogpeppe/go-internal/diff"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
)

// fixed is a configuration after -fix.
type fixed struct {
	done    []check.Fixed
	changed []config.File // files that are not as they were
	before  []config.File // with hidden secrets, as they are shown
	now     *verdict
}

// makeEdits makes the edits that findings know, or shows them, and checks what is there then.
func (c *checkFlags) makeEdits(ctx context.Context, env *Env, o *output, names []string) error {
	style := o.style(env)
	var text bytes.Buffer
	var changed []config.File
	bad := false
	for _, name := range names {
		m, err := c.fixOne(ctx, env, name)
		if err != nil {
			return err
		}
		changed = append(changed, m.changed...)
		m.tell(&text, c.diff)
		var left config.Findings
		for _, f := range m.now.found {
			bad = bad || c.fails(f.Severity)
			if f.Severity <= c.least {
				left = append(left, f)
			} else {
				m.now.hidden++
			}
		}
		text.WriteString(style.Findings(left, m.now.config.Files) + m.now.summary(c, left) + "\n")
	}
	if !c.diff {
		for _, f := range changed {
			if err := replaceFile(f.Name, func(w io.Writer) error { _, err := w.Write(f.Source); return err }); err != nil {
				return err
			}
		}
	}
	if err := o.write(env, func(w io.Writer) error { _, err := w.Write(text.Bytes()); return err }); err != nil {
		return err
	}
	if bad || c.diff && len(changed) > 0 {
		return &exitError{exitFound, nil}
	}
	return nil
}

// fixOne fixes one configuration, without writing it.
func (c *checkFlags) fixOne(ctx context.Context, env *Env, name string) (*fixed, error) {
	x, _, err := c.one(ctx, env, name, nil)
	if err != nil {
		return nil, err
	}
	wanted := map[string]bool{}
	for _, f := range x.shown(c.least) {
		wanted[f.ID+f.Message] = true
	}
	files, done := check.Fix(x.files, func(files []config.File) config.Findings { return c.again(x, files, wanted) })
	m := &fixed{done: done, before: x.config.Files}
	for i, f := range files {
		if !bytes.Equal(f.Source, x.files[i].Source) {
			m.changed = append(m.changed, f)
		}
	}
	now := *x.source
	now.files = files
	if err := now.hold(true); err != nil {
		return nil, err
	}
	m.now = &verdict{source: &now}
	if err := m.now.level(); err != nil {
		return nil, err
	}
	now.found.Sort()
	return m, nil
}

// tell writes what was done, with the edits themselves if they are wanted.
func (m *fixed) tell(text *bytes.Buffer, edits bool) {
	for _, f := range m.done {
		place := fmt.Sprintf("%s:%d:%d  %s", f.Range.Filename, f.Range.Start.Line, f.Range.Start.Column, f.ID)
		if f.Dropped != "" {
			fmt.Fprintf(text, "left     %s  %s\n         its edit was taken back: %s\n", place, f.Message, f.Dropped)
		} else {
			word := "fixed"
			if edits {
				word = "edit"
			}
			fmt.Fprintf(text, "%-7s  %s  %s\n", word, place, f.Message)
		}
	}
	for _, f := range m.changed {
		if edits {
			i := slices.IndexFunc(m.before, func(b config.File) bool { return b.Name == f.Name })
			text.Write(diff.Diff(f.Name, m.before[i].Source, f.Name+" fixed", m.now.config.Files[i].Source))
		}
	}
	if len(m.done) > 0 {
		text.WriteByte('\n')
	}
}

// again checks files that were changed. Only what is shown keeps its edit; with -changed-since only what was shown at
// first.
func (c *checkFlags) again(x *verdict, files []config.File, wanted map[string]bool) config.Findings {
	s := *x.source
	s.files = files
	if err := s.hold(true); err != nil {
		return config.Findings{{ID: config.IDSyntax, Message: err.Error()}} // so that the edit is taken back
	}
	y := &verdict{source: &s}
	if err := y.level(); err != nil {
		return nil
	}
	out := slices.Clone(y.found)
	for i := range out {
		if out[i].Severity > c.least || c.since != "" && !wanted[out[i].ID+out[i].Message] {
			out[i].Edits = nil
		}
	}
	return out
}
