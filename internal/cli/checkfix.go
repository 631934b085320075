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

// mend makes the edits that findings know, or shows them, and checks what is there then.
func (c *checkFlags) mend(ctx context.Context, env *Env, o *output, names []string) error {
	style := env.style(env.Stdout, o.noColour || o.file != "")
	var text bytes.Buffer
	type change struct {
		name string
		src  []byte
	}
	var changes []change
	bad := false
	for _, name := range names {
		x, _, err := c.one(ctx, env, name, nil)
		if err != nil {
			return err
		}
		wanted := map[string]bool{}
		for _, f := range x.shown(c.least) {
			wanted[f.ID+f.Message] = true
		}
		files, done := check.Fix(x.files, func(files []config.File) config.Findings { return c.again(x, files, wanted) })
		for _, f := range done {
			place := fmt.Sprintf("%s:%d:%d  %s", f.Range.Filename, f.Range.Start.Line, f.Range.Start.Column, f.ID)
			if f.Dropped != "" {
				fmt.Fprintf(&text, "left     %s  %s\n         the edit would bring: %s\n", place, f.Message, f.Dropped)
			} else {
				fmt.Fprintf(&text, "mended   %s  %s\n", place, f.Message)
			}
		}
		for i, f := range files {
			if bytes.Equal(f.Source, x.files[i].Source) {
				continue
			}
			changes = append(changes, change{f.Name, f.Source})
			if c.diff {
				text.Write(diff.Diff(f.Name, x.files[i].Source, f.Name+" mended", f.Source))
			}
		}
		if len(done) > 0 {
			text.WriteByte('\n')
		}
		// What is there now.
		now := *x.source
		now.files = files
		if err := now.hold(); err != nil {
			return err
		}
		y := &verdict{source: &now}
		if err := y.level(); err != nil {
			return err
		}
		y.found.Sort()
		var left config.Findings
		for _, f := range y.found {
			bad = bad || c.fails(f.Severity)
			if f.Severity <= c.least {
				left = append(left, f)
			} else {
				y.hidden++
			}
		}
		text.WriteString(style.Findings(left, now.config.Files) + y.summary(c, left) + "\n")
	}
	if !c.diff {
		for _, ch := range changes {
			if err := replaceFile(ch.name, func(w io.Writer) error { _, err := w.Write(ch.src); return err }); err != nil {
				return err
			}
		}
	}
	if err := o.write(env, func(w io.Writer) error { _, err := w.Write(text.Bytes()); return err }); err != nil {
		return err
	}
	if bad || c.diff && len(changes) > 0 {
		return &exitError{exitFound, nil}
	}
	return nil
}

// again checks files that were changed. Only what is shown keeps its edit; with -changed-since only what was shown at
// first.
func (c *checkFlags) again(x *verdict, files []config.File, wanted map[string]bool) config.Findings {
	s := *x.source
	s.files = files
	if err := s.hold(); err != nil {
		return config.Findings{{ID: config.IDSyntax, Message: err.Error()}} // so that the edit is taken back
	}
	y := &verdict{source: &s}
	if err := y.level(); err != nil {
		return nil
	}
	out := slices.Clone(y.found)
	for i := range out {
		if out[i].Severity > c.least || c.since != "" && !wanted[out[i].ID+out[i].Message] {
			out[i].Fix = nil
		}
	}
	return out
}
