package report

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"kestrix/internal/core/cause"
	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/core/health"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/status"
	"kestrix/internal/core/upstream"
)

// languagePage writes a language's table as a page of Markdown, so that the page
// says what the program does.
func languagePage(title, intro string, table *config.Block) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n\n%s\n", title, intro)
	if len(table.Keys) > 0 {
		b.WriteString("\n## At the top\n")
		referenceKeys(&b, table.Keys)
	}
	for _, c := range table.Blocks {
		referenceBlock(&b, []*config.Block{c}, "")
	}
	functions := config.FunctionHelp
	if table == scenario.Language {
		functions = scenario.FunctionHelp
	}
	b.WriteString("\n## Functions\n\n| call | result |\n|---|---|\n")
	for _, f := range functions {
		fmt.Fprintf(&b, "| `%s` | %s |\n", f.Call, cell(f.Help))
	}
	return b.String()
}

func referenceBlock(b *strings.Builder, at []*config.Block, within string) {
	c := at[len(at)-1]
	name := c.Name
	if c.Label != nil {
		name += fmt.Sprintf(" %q", strings.ToUpper(c.Label.Name))
	}
	path := strings.TrimSpace(within + " " + name)
	fmt.Fprintf(b, "\n## `%s`\n\n%s.", path, upperFirst(c.Help))
	switch {
	case c.Required && c.Many:
		b.WriteString(" At least one.")
	case c.Many:
		b.WriteString(" Any number.")
	case !c.Required:
		b.WriteString(" At most one.")
	}
	if c.Like != "" {
		fmt.Fprintf(b, " It has the keys of `%s`, except %s.\n", c.Like, strings.Join(c.Except, " and "))
		return
	}
	b.WriteByte('\n')
	if c.Label != nil && len(c.Label.Allowed) > 0 {
		fmt.Fprintf(b, "\nValues of %s:\n\n", strings.ToUpper(c.Label.Name))
		referenceValues(b, c.Label.Allowed, c.Label.Meanings)
	}
	for i, v := range c.Variables {
		if i == 0 {
			b.WriteString("\nVariables:\n\n")
		}
		fmt.Fprintf(b, "- `{%s}`: %s\n", v.Name, v.Doc)
	}
	referenceKeys(b, c.Keys)
	if at[0] == config.Language.Block(at[0].Name) && len(c.Keys) > 0 && !c.Free {
		fmt.Fprintf(b, "\nA complete configuration with this block:\n\n```hcl\n%s```\n", sample(at))
	}
	if at[0] == scenario.Language.Block(at[0].Name) {
		fmt.Fprintf(b, "\nA complete scenario with this block:\n\n```hcl\n%s```\n", scenarioSample(at[0]))
	}
	for _, inner := range c.Blocks {
		referenceBlock(b, append(slices.Clone(at), inner), name)
	}
}

func referenceKeys(b *strings.Builder, keys []*config.Key) {
	if len(keys) == 0 {
		return
	}
	b.WriteString("\n| key | type | default | meaning | example |\n|---|---|---|---|---|\n")
	for _, k := range keys {
		what := k.Type.String()
		if len(k.Allowed) > 0 {
			what = "one of the values below"
		}
		switch {
		case k.Min != "" && k.Max != "":
			what += fmt.Sprintf(", %s to %s", k.Min, k.Max)
		case k.Min != "":
			what += ", at least " + k.Min
		case k.Max != "":
			what += ", at most " + k.Max
		}
		def := "none"
		switch {
		case k.Required:
			def = "must be given"
		case k.Default != "":
			def = "`" + k.Default + "`"
		}
		fmt.Fprintf(b, "| `%s` | %s | %s | %s | `%s` |\n", k.Name, cell(what), def, cell(k.Help), k.Example)
	}
	var reasons []string
	for _, k := range keys {
		if k.Why != "" {
			reasons = append(reasons, fmt.Sprintf("- `%s = %s`: %s\n", k.Name, k.Default, k.Why))
		}
	}
	if len(reasons) > 0 {
		b.WriteString("\nReasons for defaults:\n\n" + strings.Join(reasons, ""))
	}
	for _, k := range keys {
		if len(k.Values()) > 0 {
			fmt.Fprintf(b, "\nValues of `%s`:\n\n", k.Name)
			referenceValues(b, k.Values(), k.Meanings)
		}
	}
	for _, k := range keys {
		if k.Fields != nil {
			fmt.Fprintf(b, "\nInside `%s`, %s:\n", k.Name, k.Fields.Help)
			referenceKeys(b, k.Fields.Keys)
		}
	}
}

// referenceValues lists values, a line each, with what they mean.
func referenceValues(b *strings.Builder, values, meanings []string) {
	for i, v := range values {
		fmt.Fprintf(b, "- `%s`", v)
		if meanings != nil {
			b.WriteString(": " + meanings[i])
		}
		b.WriteByte('\n')
	}
}

func cell(s string) string { return strings.ReplaceAll(s, "|", "\\|") }

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// causesPage returns the page of docs/ that lists the causes of failures and the reasons for choices.
func causesPage(generated string) string {
	var b strings.Builder
	b.WriteString("# Causes and reasons\n\n## Causes of failures\n\nOne word for each cause, in the access log (`cause`), in problem details, in `errors` of a result, in metrics, and on\npages. " + generated + "\n\n")
	b.WriteString("| cause | what has happened | in `retry.on` and `suspend.on` |\n|---|---|---|\n")
	for _, c := range cause.All {
		on := ""
		if c.On != "" {
			on = "`" + c.On + "`"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", c.Word, cell(c.Doc), on)
	}
	b.WriteString("\nA status that is listed in `on`, such as `503`, is a failure too. `client_left` is counted as `client_left` beside `failed`,\nand `unanswered` suspends a backend; neither is in `errors`.\n")
	b.WriteString("\n## Reasons for the choice of a backend\n\nThe word of `reason` in the access log, in results, in `why`, and as `{reason}` in `headers`.\n\n| reason | what was decided |\n|---|---|\n")
	for _, r := range upstream.Reasons {
		fmt.Fprintf(&b, "| `%s` | %s |\n", r.Word, cell(r.Doc))
	}
	b.WriteString("\nA request that no backend was chosen for has the cause of its refusal instead.\n")
	return b.String()
}

// family is rules that belong together, by the beginning of their ids.
type family struct{ prefix, title, file, about string }

var families = []family{
	{"KX0", "Reading", "reading", "What reading the language itself finds. These are errors, and cannot be allowed away."},
	{"KX1", "Names and structure", "names", "Names, routes and addresses, and how they fit together."},
	{"KX2", "Health", "health", "Probes, suspension and failover: what is noticed, how fast, and what is left then."},
	{"KX3", "Balancing", "balancing", "How requests are spread."},
	{"KX4", "Sessions", "sessions", "How clients keep their backend, and when they lose it."},
	{"KX5", "Timeouts", "timeouts", "How long the proxy, its clients and its backends wait for each other."},
	{"KX6", "Forwarding", "forwarding", "What the proxy changes in a request: the client's address, host, path and header fields."},
	{"KX7", "Security", "security", "Certificates, keys, passwords, and who may operate the proxy."},
	{"KX8", "The machine", "machine", "What `kestrix check -live` finds by looking: names are looked up, backends connected to, probes run once, listeners bound."},
	{"KX9", "Suppression", "suppression", "Comments that allow findings."},
}

func (f family) rules() []*check.Rule {
	var out []*check.Rule
	for _, r := range slices.Concat(check.Rules, check.LiveRules) {
		if strings.HasPrefix(r.ID, f.prefix) {
			out = append(out, r)
		}
	}
	return out
}

// rulePages writes the table of rules as pages of Markdown, by file name: an
// index, and a page for each family with examples.
func rulePages(note string) map[string]string {
	pages := map[string]string{}
	var index strings.Builder
	fmt.Fprintf(&index, "# The rules of check\n\n%s `kestrix check -explain ID` shows a rule with its examples in the terminal. A finding that claims something about behaviour carries a witness: a request, moment or number that the decision core itself has confirmed.\n", note)
	for _, f := range families {
		fmt.Fprintf(&index, "\n## [%s](rules/%s.md)\n\n| id | severity | what is found |\n|---|---|---|\n", f.title, f.file)
		var page strings.Builder
		fmt.Fprintf(&page, "# %s\n\n%s %s [All rules](../rules.md).\n", f.title, f.about, note)
		for _, r := range f.rules() {
			fmt.Fprintf(&index, "| [%s](rules/%s.md#%s) | %s | %s |\n", r.ID, f.file, strings.ToLower(r.ID), r.Severity, cell(r.Title))
			bad, good := r.Examples()
			fmt.Fprintf(&page, "\n## %s\n\n**%s**: %s.\n\nWhy it matters: %s.\n\nFix: %s.\n", r.ID, upperFirst(r.Severity.String()), r.Title, r.Why, r.Fix)
			if bad != "" {
				fmt.Fprintf(&page, "\nFound in:\n\n```hcl\n%s\n```\n\nClean:\n\n```hcl\n%s\n```\n", withoutWants(bad), withoutWants(good))
			}
		}
		pages["rules/"+f.file+".md"] = page.String()
	}
	pages["rules.md"] = index.String()
	return pages
}

// eventsPage returns the page of docs/ that lists the states of backends and the kinds of events.
func eventsPage(generated string) string {
	var b strings.Builder
	b.WriteString("# States and events\n\n" + generated + "\n\n## States of a backend\n\n")
	b.WriteString("Each state has a word and a shape; colour is not needed to tell them apart. Where several apply, the first of parked,\ndraining, unprobed, down, recovering, suspended and failing is shown.\n\n")
	b.WriteString("| state | shape | gets requests | meaning |\n|---|---|---|---|\n")
	for _, s := range health.States {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", s.State, marks[s.State.String()][0], s.Requests, cell(s.Doc))
	}
	b.WriteString("\n## Events\n\nEverything besides requests is an event: one line on stderr of `serve`, a row on the page and in `watch`, and an entry of\n`GET /events`. A line has the time (RFC 3339, UTC), the object, the kind, and the text:\n\n")
	b.WriteString("```\n" + Style{}.Event(status.Event{At: time.Date(2026, 11, 23, 2, 14, 7, 250e6, time.UTC), Object: "booking.auk", Kind: status.StateEvent(health.Down), Text: "2 probes failed: no response within 1 s"}) + "```\n\n")
	b.WriteString("Each state is the kind of the event that a backend has come to it; `down` and `suspended` are warnings, the others\ninformation. The other kinds are:\n\n| kind | severity | objects | meaning |\n|---|---|---|---|\n")
	for _, k := range status.EventKinds {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", k.Kind, k.Severity, k.Of, cell(k.Doc))
	}
	b.WriteString("\nAn `error` means that requests fail, or that the proxy does not do what it was asked. With a `warning` something failed,\nand requests go on. Where stderr is the journal of systemd, each line has the priority of its severity: 3, 4 or 6\n(RFC 5424). `journalctl -u kestrix -p warning` shows warnings and errors. `event_log { syslog = true }` sends events to a log\nserver, with the same priorities.\n\n`kestrix events` asks a running proxy by time, object, kind and severity. The proxy keeps the latest 2,048 events. With\n`event_log { file }` it also keeps those of the processes before it:\n\n```hcl\nevent_log {\n  file = \"/var/lib/kestrix/events.jsonl\"\n}\n```\n")
	b.WriteString("\nEvents that strangers can cause are limited to five of a kind in a minute; one event counts the others.\n")
	return b.String()
}

// columnsPage returns the page of docs/ that lists the columns of tables.
func columnsPage(generated string) string {
	var b strings.Builder
	b.WriteString("# Columns of tables\n\n" + generated + " `kestrix help columns` prints it, too. Columns are named like the keys of [JSON\nresults](json.md); `peak` is `peak_in_flight`, and `out` is `seconds_out`.\n\n| column | meaning |\n|---|---|\n")
	for _, c := range Columns {
		fmt.Fprintf(&b, "| %s | %s |\n", c.Name, cell(strings.ReplaceAll(c.Doc, "*", "`*`")))
	}
	return b.String()
}
