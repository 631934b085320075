package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/result"
)

// why writes why requests failed or waited, as far as it was found out.
func (s Style) why(b *strings.Builder, r *result.Replay) {
	d := r.Diagnosis
	if d == nil {
		return
	}
	b.WriteString("\n" + s.bold("why requests failed or waited") + "\n")
	t := timesOf(r)
	for i := range d.Causes {
		c := &d.Causes[i]
		b.WriteString("  " + flow(c.Upstream+": "+c.Says, s.Width, 4) + "\n")
		b.WriteString("    " + flow(contrastOf(c, t), s.Width, 6) + "\n")
	}
	b.WriteString("  " + flow(howFound(d), s.Width, 2) + "\n")
}

// contrastOf words the comparison that a cause rests on.
func contrastOf(c *result.Diagnosed, t times) string {
	of := "its requests"
	if c.With.After {
		of = "the requests that come after the fault"
	}
	var parts []string
	if c.Before.Failed != c.With.Failed {
		parts = append(parts, fmt.Sprintf("%s of %s fail instead of %s", finePercent(c.With.Share()), of, finePercent(c.Before.Share())))
	}
	if before, with := t.orDash(c.Before.ElapsedP99), t.orDash(c.With.ElapsedP99); before != with {
		parts = append(parts, fmt.Sprintf("99 %% end within %s instead of %s", with, before))
	}
	return "with " + c.Change + ": " + strings.Join(parts, ", ")
}

// howFound says what the causes rest on.
func howFound(d *result.Diagnosis) string {
	switch {
	case d.Note != "":
		return "not found out: " + d.Note
	case d.Unclear:
		return fmt.Sprintf("nothing accounts for it that was tried, by %s with one thing changed each", plural(int64(d.Replays), "replay"))
	}
	return fmt.Sprintf("found by %s with one thing changed each; of other seeds nothing is known", plural(int64(d.Replays), "replay"))
}
