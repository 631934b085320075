package check

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// mistake is a kind of mistake that is planted into clean configurations.
type mistake struct {
	name string
	at   string   // the place, a regular expression of a line
	put  string   // what stands there then; $1 for what the first parentheses took
	ids  []string // one of these finds it
	why  string   // why nobody can know; then it is silent
	// but is where nothing is wrong after all, by file and line, and why.
	but map[string]string
}

// mistakes are of all families. What cannot be known is listed as well: a configuration that is as good as another, for
// another site.
var mistakes = []mistake{
	{name: "a misspelt key", at: `^(\s+)(algorith|down_afte|tim|attempt|ever)(m|r|eout|s|y)( +=)`, put: "$1$2$4", ids: []string{"KX002"}},
	{name: "a misspelt block", at: `^(\s+)(prob|stick|retr|timeout|suspen|queu|failove)(e|y|s|d|r)( ("\S+" )?\{)`, put: "$1$2$4", ids: []string{"KX002"}},
	{name: "a misspelt value", at: `(least-con)n(ections)|(round-r)o(bin)|(two-ch)o(ices)`, put: "$1$2$3$4$5$6", ids: []string{"KX007"}},
	{name: "an upstream that is not there", at: `(send_to\s+= upstream\.\S+)`, put: "${1}x", ids: []string{"KX102", "KX101"}},
	{name: "a duration without quotes", at: `= "(\d+m?s)"`, put: "= $1", ids: []string{"KX001"}},
	{name: "an address without quotes", at: `= "(\d+\.\d+\.\d+\.\d+:\d+)"`, put: "= $1", ids: []string{"KX001"}},
	{name: "a path without quotes", at: `(path\s+= )"(/[^"]*)"`, put: "$1$2", ids: []string{"KX001"}},
	{name: "a colon", at: `^(\s+(?:path|every|timeout|answer|connect|name|listen))\s+=`, put: "$1:", ids: []string{"KX001"}},
	{name: "two equals signs", at: `^(\s+(?:path|every|timeout|answer|connect|name|listen)\s+)=`, put: "$1==", ids: []string{"KX001"}},
	{name: "single quotes", at: `= "([a-z-]+)"$`, put: "= '$1'", ids: []string{"KX001"}},
	{name: "curly quotes", at: `= "([a-z0-9-]+)"$`, put: "= “$1”", ids: []string{"KX001"}},
	{name: "a quote that is missing", at: `^(\s+[a-z_]+\s+= "[^"]+)"$`, put: "$1", ids: []string{"KX001"}},
	{name: "a character that nobody sees", at: `(host\s+= ")`, put: "$1\u200b", ids: []string{"KX130"}},
	{name: "a stray brace", at: `^(\s+probe .*)$`, put: "}\n$1", ids: []string{"KX001", "KX002"}},
	{name: "no port", at: `("\d+\.\d+\.\d+\.\d+):\d+"`, put: `$1"`, ids: []string{"KX003"}},
	{name: "a port too far", at: `("\d+\.\d+\.\d+\.\d+:)\d+"`, put: `${1}70000"`, ids: []string{"KX003"}},
	{name: "a list for one value", at: `(algorithm = )("\S+")`, put: "$1[$2]", ids: []string{"KX003"}},
	{name: "a text for a number", at: `(down_after|attempts|up_after)(\s+= )(\d)$`, put: `$1$2"$3"`, ids: []string{"KX003"}},
	{name: "a negative duration", at: `((?:every|timeout|connect|answer)\s+= ")(\d)`, put: "$1-$2", ids: []string{"KX003", "KX004"}},
	{name: "a key given twice", at: `^(\s+(?:every|connect|attempts)\s+= .*)$`, put: "$1\n$1", ids: []string{"KX006"}},
	{name: "a key in another block", at: `^(\s+)(connect\s+= .*)$`, put: "$1$2\n${1}attempts = 2", ids: []string{"KX002"}},
	{name: "a host with a space", at: `(host\s+= "[a-z]+\.tern\.example)"`, put: `$1 "`, ids: []string{"KX122"}},
	{name: "a host of one label", at: `(host\s+= )"[a-z]+\.tern\.example"`, put: `$1"*"`, ids: []string{"KX122"}},
	{name: "a host with a port", at: `(host\s+= "[a-z]+\.tern\.example)"`, put: `$1:8080"`, ids: []string{"KX003"}},
	{name: "an expression in quotes", at: `(path\s+= "/[a-z]+)/\*\*"`, put: `$1/[0-9]+"`, ids: []string{"KX123"}},
	{name: "an expression for a beginning", at: `(path\s+= )"(/[a-z]+)/\*\*"`, put: `${1}regexp("^$2")`, ids: []string{"KX124"}},
	{name: "a path with steps", at: `(path\s+= "/)([a-z]+/\*\*")`, put: "${1}x/../$2", ids: []string{"KX125"}},
	{name: "a path with its last slash", at: `(path\s+= "/[a-z]+/)\*\*"`, put: `$1"`, ids: []string{"KX602", "KX119"}, but: map[string]string{"talk.hcl:13": "another route sends /talk to the same upstream"}},
	{name: "a method that is none", at: `"GET"`, put: `"GTE"`, ids: []string{"KX126"}},
	{name: "a method in small letters", at: `"(?:POST|GET)"`, put: `"post"`, ids: []string{"KX003"}},
	{name: "a header value in another case", at: `("Upgrade" = ")websocket`, put: "${1}WebSocket", ids: []string{"KX127"}},
	{name: "a server twice", at: `^(\s+)(auk|skua)(\s+= .*)$`, put: "$1$2$3\n${1}twin$3", ids: []string{"KX109", "KX110"}},
	{name: "no particular address", at: `^(\s+(?:auk|gannet|petrel|skua|shag|knot|fulmar|murre)\s+= .*")192\.0\.2\.\d+(:\d+")`, put: "${1}0.0.0.0$2", ids: []string{"KX129", "KX108"}},
	{name: "a probe too slow", at: `^(\s+timeout\s+= )"\ds"$`, put: `$1"20s"`, ids: []string{"KX202", "KX513", "KX507"}},
	{name: "one failed probe is enough", at: `(down_after\s+= )[23]`, put: "${1}1", ids: []string{"KX206"}},
	{name: "a probe too seldom", at: `(every\s+= )"\ds"`, put: `$1"45s"`, ids: []string{"KX503", "KX507"}, but: map[string]string{
		"papers.hcl:96": suspends, "partners.hcl:99": suspends, "reports.hcl:44": suspends, "shop.hcl:71": suspends, "moved.hcl:101": "with one backend there is no other to send requests to",
	}},
	{name: "a probe that passes errors", at: `(status = \["200)"`, put: `$1-599"`, ids: []string{"KX216"}, but: map[string]string{"shop.hcl:70": "the body has to fit as well"}},
	{name: "a body without its star", at: `(body = ")\*ready\*"`, put: `${1}ready"`, ids: []string{"KX215"}},
	{name: "a probe of the start page", at: `^(\s+path\s+= )"/(?:ready|alive)"`, put: `$1"/"`, ids: []string{"KX205"}},
	{name: "a self-report on the port of requests", at: `^(\s+)port\s+= 8079`, put: "$1", ids: []string{"KX217"}},
	{name: "connecting takes its time", at: `(connect = )"[^"]+"`, put: `$1"30s"`, ids: []string{"KX501"}},
	{name: "answers without end", at: `(answer\s+= )"[^"]+"`, put: `$1"20m"`, ids: []string{"KX508"}},
	{name: "answers given up soon", at: `(answer\s+= )"[^"]+"`, put: `$1"300ms"`, ids: []string{"KX513", "KX312"}, but: map[string]string{"reports.hcl:61": "a self-report is not answered by the application"}},
	{name: "a heartbeat cut off", at: `(idle\s+= )"\d+m"`, put: `$1"10s"`, ids: []string{"KX505"}},
	{name: "a retry that never repeats", at: `(attempts = )2`, put: "${1}1", ids: []string{"KX510"}},
	{name: "more attempts than backends", at: `(attempts = )2`, put: "${1}9", ids: []string{"KX308"}},
	{name: "a retry of what is not there", at: `(on\s+= \["connect")(.*"503")`, put: `$1, "404"$2`, ids: []string{"KX509", "KX220"}},
	{name: "a secret that is guessed", at: `(secret\s+= ).*$`, put: `$1"changeme-changeme"`, ids: []string{"KX410"}},
	{name: "no secret", at: `^\s+secret\s+= .*$`, put: "", ids: []string{"KX402"}},
	{name: "seats that end", at: `(ttl\s+= )"\d+h"`, put: `$1"30s"`, ids: []string{"KX405", "KX412"}},
	{name: "clients refused", at: `(on_loss = )"move"`, put: `$1"refuse"`, ids: []string{"KX403", "KX406"}},
	{name: "a backend without its room", at: `, max_in_flight = \d+|max_in_flight = \d+`, put: "", ids: []string{"KX309", "KX310", "KX003", "KX001"}},
	{name: "a queue that outlasts", at: `^(\s+timeout\s+= )"[125]s"$`, put: `$1"1m"`, ids: []string{"KX507", "KX202", "KX513"}},
	{name: "a zone misspelt", at: `(zone = "north)-quay"`, put: `${1}_quay"`, ids: []string{"KX222"}},
	{name: "the proxy's zone misspelt", at: `^(zone = ).*$`, put: `$1"nroth-quay"`, ids: []string{"KX211"}},
	{name: "everybody trusted", at: `(trusted_proxies = \[).*\]`, put: `$1"0.0.0.0/0"]`, ids: []string{"KX601"}},
	{name: "nobody trusted", at: `^trusted_proxies = .*$`, put: "", ids: []string{"KX607", "KX616"}},
	{name: "another prefix dropped", at: `(drop_prefix = ")/`, put: "${1}/old/", ids: []string{"KX604"}},
	{name: "an old TLS", at: `(min_version\s+= )"\S+"`, put: `$1"1.0"`, ids: []string{"KX704"}},
	{name: "HTTP/2 alone is not enough", at: `(algorithm\s+= )"hash"`, put: `$1"round-robin"`, ids: []string{"KX007", "KX002", "KX005"}},
	{name: "TLS on the port of http", at: `"0\.0\.0\.0:443", "\[::\]:443"`, put: `"0.0.0.0:80"`, ids: []string{"KX619", "KX107"}},
	{name: "control for everybody", at: `^(\s+listen = )"127\.0\.0\.1:9900"`, put: `$1"0.0.0.0:9900"`, ids: []string{"KX701"}},
	{name: "a redirect in a circle", at: `(to\s+= )"https?://[^"]*"`, put: `$1"{path}"`, ids: []string{"KX116", "KX117", "KX003"}},
	{name: "a route that takes everything first", at: `^(\s+path = )"/(?:freight|reports|talk)/\*\*"`, put: `$1"/**"`, ids: []string{"KX105", "KX604", "KX610", "KX114", "KX115", "KX112"}},

	{name: "another server's address", at: `("192\.0\.2\.)(\d+):(\d+")`, put: "${1}250:$3", why: "which server is meant only the network knows: check -live asks it"},
	{name: "another weight", at: `(weight = )2`, put: "${1}3", why: "what a machine can take is not written anywhere"},
	{name: "another page for the probe", at: `^(\s+path\s+= )"/ready"`, put: `$1"/health"`, why: "which pages there are only the application knows: check -live asks it"},
	{name: "a header field with a letter more", at: `("X-Partner-Key)"`, put: `${1}s"`, why: "any name may be one"},
	{name: "another cookie", at: `(name\s+= "(?:tern|talk))_seat"`, put: `${1}_set"`, why: "any name may be one"},
	{name: "a rate ten times as high", at: `(rate\s+= ")(\d+)/s`, put: "${1}${2}0/s", why: "what is too much only the backends know"},
	{name: "a network next to it", at: `"198\.51\.100\.0/24"`, put: `"198.51.101.0/24"`, why: "which network is meant only people know"},
	{name: "another application", at: `(sni\s+= "crew)\.`, put: "${1}s.", why: "any name may be one"},
}

const suspends = "its suspension finds a backend that is silent sooner"

// planted is one mistake in one file.
type planted struct {
	mistake
	file, text string
	line       int
}

// plantedIn returns every place where a mistake can be made.
func plantedIn(files map[string]string) []planted {
	var out []planted
	names := make([]string, 0, len(files))
	for name := range files {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, m := range mistakes {
		re := regexp.MustCompile(m.at)
		for _, name := range names {
			lines := strings.Split(files[name], "\n")
			for i, l := range lines {
				at := re.FindStringSubmatchIndex(l)
				if at == nil {
					continue
				}
				changed := l[:at[0]] + string(re.ExpandString(nil, m.put, l, at)) + l[at[1]:]
				if changed != l {
					text := strings.Join(slices.Concat(lines[:i], []string{changed}, lines[i+1:]), "\n")
					out = append(out, planted{m, name, text, i + 1})
				}
			}
		}
	}
	return out
}

// TestPlantedMistakesAreFound draws mistakes out of all that can be planted into the clean configurations. What can be known
// is found; the rest is silent, for a reason that is given. testdata/planted.txt tells where.
func TestPlantedMistakesAreFound(t *testing.T) {
	all := plantedIn(clean(t))
	byKind := map[string]int{}
	for _, p := range all {
		byKind[p.name]++
	}
	for _, m := range mistakes {
		assert.NotZero(t, byKind[m.name], "no place for %q", m.name)
	}
	if os.Getenv("KESTRIX_LONG") == "" {
		draw := rand.New(rand.NewPCG(1, 2))
		draw.Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		count := map[string]int{}
		all = slices.DeleteFunc(all, func(p planted) bool { count[p.name]++; return count[p.name] > 5 })
	}
	slices.SortStableFunc(all, func(a, b planted) int {
		return cmp.Or(cmp.Compare(a.file, b.file), cmp.Compare(a.line, b.line), cmp.Compare(a.name, b.name))
	})
	require.GreaterOrEqual(t, len(all), 150)
	var list strings.Builder
	for _, p := range all {
		c, reading, err := config.ReadIn([]config.File{{Name: p.file, Source: []byte(p.text)}}, config.World{Env: secrets})
		require.NoError(t, err, p.name)
		hit, words := false, []string{}
		for _, f := range Run(c, reading, nil) {
			if f.ID == "KX307" {
				continue
			}
			hit = hit || slices.Contains(p.ids, f.ID)
			words = append(words, fmt.Sprintf("%s on line %d", f.ID, f.Range.Start.Line))
		}
		if but := p.but[fmt.Sprintf("%s:%d", p.file, p.line)]; but != "" {
			p.why = but
		}
		if p.why == "" {
			assert.True(t, hit, "%s:%d %s: %s", p.file, p.line, p.name, words)
		} else {
			assert.Empty(t, words, "%s:%d %s", p.file, p.line, p.name)
			words = []string{"silent: " + p.why}
		}
		fmt.Fprintf(&list, "%s:%d  %s: %s\n", p.file, p.line, p.name, strings.Join(slices.Compact(words), ", "))
	}
	if os.Getenv("KESTRIX_LONG") != "" {
		return
	}
	const told = "testdata/planted.txt"
	if os.Getenv("KESTRIX_UPDATE") != "" {
		require.NoError(t, os.WriteFile(told, []byte(list.String()), 0o644))
	}
	want, err := os.ReadFile(told)
	require.NoError(t, err)
	assert.Equal(t, string(want), list.String(), "KESTRIX_UPDATE=1 writes it anew")
}
