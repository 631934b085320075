package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
)

// ran runs a command and returns what it wrote as JSON.
func ran(t *testing.T, into any, args ...string) {
	var out, errs bytes.Buffer
	env := &Env{Stdin: strings.NewReader(""), Stdout: &out, Stderr: &errs, Getenv: func(string) string { return "" }}
	Main(context.Background(), env, append(args, "-format", "json"))
	require.NoError(t, json.Unmarshal(out.Bytes(), into), "%v: %s%s", args, out.String(), errs.String())
}

var (
	requestWitness = regexp.MustCompile(`^([A-Z]+) (http://\S+)((?: from \S+| over a unix socket| with .+?)*) (matches no route|goes to "([^"]+)"|matches here, and goes to "([^"]+)"|matches both, and goes to "([^"]+)" because|is passed on as (\S+)$)`)
	hungWitness    = regexp.MustCompile(`^of ten requests a second with "(\S+)" hung, (none|\d+) of (\d+)`)
	part           = regexp.MustCompile(` (from|with|over) (.+?)(?:$| (?:from|with|over) )`)
)

// asWhy returns how kestrix why is asked for the request of a witness, nil where it cannot be.
func asWhy(m []string) []string {
	args := []string{m[1], m[2]}
	for rest := m[3]; rest != ""; {
		p := part.FindStringSubmatchIndex(rest)
		if p == nil {
			return nil
		}
		kind, what := rest[p[2]:p[3]], rest[p[4]:p[5]]
		rest = rest[p[5]:]
		cookie, isCookie := strings.CutPrefix(what, "the cookie ")
		switch name, value, isField := strings.Cut(what, ": "); {
		case kind == "from":
			args = append(args, "-client", what)
		case kind == "over" || strings.Contains(what, "TLS handshake") || what == "no host":
			return nil // which why cannot ask as
		case isCookie:
			args = append(args, "-cookie", cookie)
		case isField:
			args = append(args, "-header", name+":"+value)
		default:
			return nil
		}
	}
	return args
}

// frontendAt returns the frontend in which a line of a configuration stands, empty for none.
func frontendAt(c *config.Config, line int) string {
	name, best := "", 0
	for _, f := range c.Frontends {
		if at := f.Range.Start.Line; at <= line && at > best {
			name, best = f.Name, at
		}
	}
	for _, u := range c.Upstreams {
		if at := u.Range.Start.Line; at <= line && at > best {
			return ""
		}
	}
	return name
}

// plantings are put into clean configurations, so that rules have something to say.
var plantings = [][2]string{
	{`/\*\*"`, `/*"`}, {`"/[a-z]+/\*\*"`, `"/**"`}, {`method = .*`, `method = not("GET")`}, {`host += "[a-z.]+"`, `host = "*.example"`}, {`path += "/[a-z]+/`, `path = "/x/`},
	{`(?s)when \{.*?\n    \}`, ""}, {`"GET"`, `"POST"`}, {`status = 40[0-9]`, `status = 200`}, {`drop_prefix = "/`, `drop_prefix = "/x`}, {`"X-Partner-Key" = not\("\*"\)`, `"X-Partner-Key" = "none"`},
	{`client = .*`, `client = "203.0.113.0/24"`}, {`\[not\(`, `[(`}, {`to += "[^"]+"`, `to = "/x{path}"`}, {`send_to = upstream\.[a-z]+\n  \}\n\}`, "reply {\nstatus = 404\n}\n}\n}"},
}

// TestWitnessesHold asks the commands for what witnesses say: of the failing example of each rule, and of 300 configurations
// drawn out of clean ones.
func TestWitnessesHold(t *testing.T) {
	var texts []string
	for _, r := range check.Rules {
		bad, _ := r.Examples()
		texts = append(texts, bad)
	}
	clean, err := filepath.Glob("../core/check/testdata/clean/*.hcl")
	require.NoError(t, err)
	require.NotEmpty(t, clean)
	draw := rand.New(rand.NewPCG(5, 6))
	for range 300 {
		text, err := os.ReadFile(clean[draw.IntN(len(clean))])
		require.NoError(t, err)
		s := string(text)
		for range 1 + draw.IntN(3) {
			c := plantings[draw.IntN(len(plantings))]
			re := regexp.MustCompile(c[0])
			if all := re.FindAllStringIndex(s, -1); len(all) > 0 {
				at := all[draw.IntN(len(all))]
				s = s[:at[0]] + c[1] + s[at[1]:]
			}
		}
		texts = append(texts, s)
	}
	t.Setenv("SEAT_SECRET", "pQ7v-2mLx9-dT4kRw8z")
	t.Setenv("TALK_SECRET", "Hn3c-8sJb5-yV6fGq1e")
	asked, hung, counted := 0, 0, 0
	name := filepath.Join(t.TempDir(), "site.hcl")
	for _, text := range texts {
		c, reading, err := config.ReadIn([]config.File{{Name: name, Source: []byte(text)}}, config.World{Env: os.LookupEnv})
		if err != nil || reading.Count(config.Error) > 0 {
			continue // no command takes it
		}
		found := check.Run(c, reading, nil)
		if found.Count(config.Error) > 0 {
			continue
		}
		require.NoError(t, os.WriteFile(name, []byte(text), 0o644))
		for _, f := range found {
			if m := requestWitness.FindStringSubmatch(f.Witness); m != nil && f.ID != "KX116" && f.ID != "KX117" {
				asked += askWhy(t, c, name, f, m)
			}
			counted += askCounts(t, c, name, f) + askAttempts(t, c, name, f)
			if m := hungWitness.FindStringSubmatch(f.Witness); m != nil && len(c.Frontends) == 1 && len(c.Frontends[0].Routes) == 1 && c.Frontends[0].Routes[0].When.Empty() {
				hung += askReplay(t, c, name, m)
			}
		}
	}
	assert.Greater(t, asked, 80, "requests that were asked for")
	assert.GreaterOrEqual(t, hung, 3, "replays")
	assert.GreaterOrEqual(t, counted, 5, "requests in a row")
}

// askWhy asks for the request of a witness and compares where it goes.
func askWhy(t *testing.T, c *config.Config, name string, f config.Finding, m []string) int {
	args, front := asWhy(m), frontendAt(c, f.Range.Start.Line)
	if args == nil || front == "" {
		return 0
	}
	var answer struct {
		Route, Upstream string
		Passed          *struct{ Path string }
	}
	ran(t, &answer, append([]string{"why", name, "-frontend", front}, args...)...)
	switch want := m[5] + m[6] + m[7]; {
	case strings.HasPrefix(m[4], "matches no route"):
		assert.Empty(t, answer.Route, "%s: %s", f.ID, f.Witness)
	case m[8] != "":
		if assert.NotNil(t, answer.Passed, "%s: %s", f.ID, f.Witness) {
			assert.Equal(t, m[8], answer.Passed.Path, "%s: %s", f.ID, f.Witness)
		}
	default:
		assert.Contains(t, []string{answer.Route, answer.Upstream}, want, "%s: %s", f.ID, f.Witness)
	}
	return 1
}

// askReplay replays what a witness says of a backend that hangs, and compares how many requests fail.
func askReplay(t *testing.T, c *config.Config, name string, m []string) int {
	dir := filepath.Dir(name)
	seconds := 0
	_, err := fmt.Sscan(m[3], &seconds)
	require.NoError(t, err)
	seconds /= 10
	var log strings.Builder
	for i := range (60 + seconds) * 10 {
		fmt.Fprintf(&log, "{\"time\":%d.%d,\"client\":\"192.0.2.%d\",\"method\":\"GET\",\"path\":\"/\"}\n", 1_790_000_000+i/10, i%10, i%50+1)
	}
	trace, scenario := filepath.Join(dir, "trace.jsonl"), filepath.Join(dir, "hang.scenario.hcl")
	require.NoError(t, os.WriteFile(trace, []byte(log.String()), 0o644))
	require.NoError(t, os.WriteFile(scenario, []byte(fmt.Sprintf("seed = 1\nfault \"hang\" {\n  kind = \"hang\"\n  backend = \"%s.%s\"\n  at = \"60s\"\n}\n", c.Frontends[0].Routes[0].SendTo.Value, m[1])), 0o644))
	var result struct{ Failed int }
	ran(t, &result, "replay", name, trace, "-scenario", scenario)
	want := 0
	if m[2] != "none" {
		_, err = fmt.Sscan(m[2], &want)
		require.NoError(t, err)
	}
	assert.Equal(t, want, result.Failed, "%s", m[0])
	return 1
}

var (
	turnsWitness = regexp.MustCompile(`^100 clients, one after the other, fetch a page and a picture each: (\d+) pages and (\d+) pictures come from "(\S+)"`)
	countWitness = regexp.MustCompile(`^of ([0-9,]+) (?:new )?requests (?:to "\S+" it gets (none)|one after the other (\d+) go to it)$`)
	noneWitness  = regexp.MustCompile(`^of 1,000 requests none goes to (.*), and every failure`)
	firstWitness = regexp.MustCompile(`^the first (?:request|of 100 requests at once) goes to "(\S+)"`)
	quoted       = regexp.MustCompile(`"([^"]+)"`)
)

// askCounts asks for requests in a row what a witness says of them, where one route sends everything to an upstream whose choice
// does not go by clients, and returns whether it could.
func askCounts(t *testing.T, c *config.Config, name string, f config.Finding) int {
	if len(c.Frontends) != 1 || len(c.Frontends[0].Routes) != 1 || !c.Frontends[0].Routes[0].When.Empty() || c.Frontends[0].Protocol != "http" {
		return 0
	}
	u := c.Upstream(c.Frontends[0].Routes[0].SendTo.Value)
	if u == nil || u.Hash != nil || u.Sticky != nil {
		return 0
	}
	series := func(n int) []string {
		var answer struct{ Series []struct{ Backend string } }
		ran(t, &answer, "why", name, "GET", "http://tern.example/", "-frontend", c.Frontends[0].Name, "-n", fmt.Sprint(n))
		var out []string
		for _, x := range answer.Series {
			out = append(out, x.Backend)
		}
		require.Len(t, out, n)
		return out
	}
	count := func(all []string, of string) (n int) {
		for _, b := range all {
			if b == of {
				n++
			}
		}
		return n
	}
	number := func(text string) (n int) {
		_, err := fmt.Sscan(strings.ReplaceAll(text, ",", ""), &n)
		require.NoError(t, err)
		return n
	}
	switch {
	case turnsWitness.MatchString(f.Witness):
		m := turnsWitness.FindStringSubmatch(f.Witness)
		var pages, pictures []string
		for i, b := range series(200) {
			if i%2 == 0 {
				pages = append(pages, b)
			} else {
				pictures = append(pictures, b)
			}
		}
		assert.Equal(t, [2]int{number(m[1]), number(m[2])}, [2]int{count(pages, m[3]), count(pictures, m[3])}, "%s: %s", f.ID, f.Witness)
	case countWitness.MatchString(f.Witness):
		m := countWitness.FindStringSubmatch(f.Witness)
		want := 0
		if m[2] == "" {
			want = number(m[3])
		}
		assert.Equal(t, want, count(series(number(m[1])), quoted.FindStringSubmatch(f.Message)[1]), "%s: %s", f.ID, f.Witness)
	case noneWitness.MatchString(f.Witness):
		all := series(1000)
		for _, b := range quoted.FindAllStringSubmatch(noneWitness.FindStringSubmatch(f.Witness)[1], -1) {
			assert.Zero(t, count(all, b[1]), "%s: %s", f.ID, f.Witness)
		}
	case firstWitness.MatchString(f.Witness):
		assert.Equal(t, firstWitness.FindStringSubmatch(f.Witness)[1], series(1)[0], "%s: %s", f.ID, f.Witness)
	default:
		return 0
	}
	return 1
}

var attemptsWitness = regexp.MustCompile(`^100 requests (?:become (\d+) while all of them fail to connect|that fail to connect are sent (\d+) times)$`)

// askAttempts replays a second of requests to backends that refuse, before a probe sees it, and compares how many attempts are
// made of them.
func askAttempts(t *testing.T, c *config.Config, name string, f config.Finding) int {
	m := attemptsWitness.FindStringSubmatch(f.Witness)
	if m == nil || len(c.Frontends) != 1 || len(c.Frontends[0].Routes) != 1 || !c.Frontends[0].Routes[0].When.Empty() {
		return 0
	}
	dir, up := filepath.Dir(name), c.Frontends[0].Routes[0].SendTo.Value
	log := "{\"time\":1790000000.0,\"client\":\"192.0.2.1\",\"method\":\"GET\",\"path\":\"/\"}\n"
	for i := range 100 {
		log += fmt.Sprintf("{\"time\":1790000060.%03d,\"client\":\"192.0.2.%d\",\"method\":\"GET\",\"path\":\"/\"}\n", i*10, i%50+1)
	}
	trace, scenario := filepath.Join(dir, "row.jsonl"), filepath.Join(dir, "refuse.scenario.hcl")
	require.NoError(t, os.WriteFile(trace, []byte(log), 0o644))
	require.NoError(t, os.WriteFile(scenario, []byte(fmt.Sprintf("seed = 1\nfault \"refuse\" {\n  kind = \"refuse\"\n  upstream = %q\n  at = \"59900ms\"\n}\n", up)), 0o644))
	var result struct {
		Upstreams map[string]struct {
			Backends map[string]struct{ Requests int }
		}
	}
	ran(t, &result, "replay", name, trace, "-scenario", scenario)
	all := -1 // the request that starts the clock
	for _, u := range result.Upstreams {
		for _, b := range u.Backends {
			all += b.Requests
		}
	}
	assert.Equal(t, m[1]+m[2], fmt.Sprint(all), "%s: %s", f.ID, f.Witness)
	return 1
}
