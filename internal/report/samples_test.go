package report

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
)

// labels are the labels of blocks in examples.
var labels = map[string]string{"access_log": "slow", "frontend": "web", "route": "all", "upstream": "app", "probe": "http", "user": "mary"}

// sample returns a complete configuration in which the last block of a path has as many of its keys as go together, each with
// the example of the language's table. Without one, as for blocks of free names, it is empty.
func sample(path []*config.Block) string {
	var keys []*config.Key
	text := sampleOf(path, nil)
	for _, k := range path[len(path)-1].Keys {
		if k.Example == "" || k.Required || k.Name == "send_to" {
			continue
		}
		more := append(slices.Clone(keys), k)
		if t := sampleOf(path, more); len(mistakes(t)) == 0 {
			keys, text = more, t
		}
	}
	return text
}

// mistakes returns the errors of a configuration.
func mistakes(text string) (out []string) {
	c, found, err := config.Read([]config.File{{Name: "sample.hcl", Source: []byte(text)}})
	if err != nil {
		return []string{err.Error()}
	}
	for _, f := range check.Run(c, found, nil) {
		if f.Severity == config.Error {
			out = append(out, f.Message)
		}
	}
	return out
}

// sampleOf writes the configuration: the blocks of the path, and beside them the frontend and the upstream that every
// configuration has.
func sampleOf(path []*config.Block, keys []*config.Key) string {
	var b strings.Builder
	if path[0].Name != "frontend" {
		b.WriteString("frontend \"web\" {\n  listen = \"127.0.0.1:8080\"\n  route \"all\" {\n    send_to = upstream.app\n  }\n}\n")
	}
	if path[0].Name != "upstream" {
		b.WriteString("upstream \"app\" {\n  backends = { auk = \"192.0.2.11:8080\", gannet = \"192.0.2.12:8080\" }\n}\n")
	}
	if path[0].Name == "syslog" {
		b.WriteString("access_log {\n to = \"syslog\"\n}\n")
	}
	writeSample(&b, path, keys)
	out, _, err := config.Format(config.File{Name: "sample.hcl", Source: []byte(b.String())})
	if err != nil || len(out) == 0 {
		return b.String()
	}
	return string(out)
}

func writeSample(b *strings.Builder, path []*config.Block, keys []*config.Key) {
	block, last := path[0], len(path) == 1
	b.WriteString(block.Name)
	if l := labels[block.Name]; block.Label != nil {
		fmt.Fprintf(b, " %q", l)
	}
	b.WriteString(" {\n")
	for _, k := range block.Keys {
		pair := block.Block("acme") != nil && (last || path[1].Name != "acme") && (k.Name == "certificate" || k.Name == "key")
		if k.Required || pair || k.Name == "backends" || last && slices.Contains(keys, k) { // backends, or a file of them
			example := k.Example
			switch k.Name {
			case "certificate":
				example = `"tickets.pem"`
			case "key":
				example = `"tickets.key"`
			case "backends":
				example = `{ auk = "192.0.2.11:8080", gannet = "192.0.2.12:8080" }`
			case "password":
				example = `"$2a$12$K7mVQq0ZVp0bGCVdbQJ5jOZb3mZ0wXcJq9oRr7yTz1N2u3v4w5x6y"`
			}
			fmt.Fprintf(b, "%s = %s\n", k.Name, example)
		}
	}
	inner := ""
	if !last {
		inner = path[1].Name
		writeSample(b, path[1:], keys)
	}
	if block.Name == "frontend" && inner != "route" {
		b.WriteString("route \"all\" {\n send_to = upstream.app\n}\n")
	}
	if inner == "hash" {
		b.WriteString("algorithm = \"hash\"\n")
	}
	if block.Name == "route" && inner != "redirect" && inner != "reply" {
		b.WriteString("send_to = upstream.app\n")
	}
	b.WriteString("}\n")
}

// scenarioLabels are the labels of blocks in examples of scenarios.
var scenarioLabels = map[string]string{"members": "booking.auk", "behaviour": "booking.*", "dependency": "db", "header": "X-Tern-Channel", "cookie": "tern_preview", "page": "/seats", "fault": "auk returns errors", "expect": "few failures"}

// scenarioSample returns a complete scenario with one block, which has as many of its keys as go together, each with the
// example of the language's table, and a load beside it.
func scenarioSample(block *config.Block) string {
	write := func(keys []*config.Key, inner []*config.Block) string {
		var b strings.Builder
		if block.Name != "load" {
			b.WriteString("load {\n rate = \"200/s\"\n}\n")
		}
		b.WriteString(block.Name)
		if block.Label != nil {
			fmt.Fprintf(&b, " %q", scenarioLabels[block.Name])
		}
		b.WriteString(" {\n")
		for _, k := range block.Keys {
			example := k.Example
			if block.Name == "fault" && k.Name == "kind" {
				example = `"errors"` // the kind with the most keys
			}
			if k.Required || slices.Contains(keys, k) {
				fmt.Fprintf(&b, "%s = %s\n", k.Name, example)
			}
		}
		for _, x := range inner {
			b.WriteString(x.Name)
			if x.Label != nil {
				fmt.Fprintf(&b, " %q", scenarioLabels[x.Name])
			}
			b.WriteString(" {\n")
			for _, k := range x.Keys {
				fmt.Fprintf(&b, "%s = %s\n", k.Name, k.Example)
			}
			b.WriteString("}\n")
		}
		b.WriteString("}\n")
		out, _, err := config.Format(config.File{Name: "sample.scenario.hcl", Source: []byte(b.String())})
		if err != nil || len(out) == 0 {
			return b.String()
		}
		return string(out)
	}
	var keys []*config.Key
	for _, k := range block.Keys {
		if block.Name == "fault" && (k.Name == "upstream" || k.Name == "zone") || block.Name == "behaviour" && k.Name == "path" {
			continue // other ways to say which backends fail; keys with which most others do not go
		}
		if more := append(slices.Clone(keys), k); !k.Required && len(scenarioMistakes(write(more, nil))) == 0 {
			keys = more
		}
	}
	var inner []*config.Block
	for _, x := range block.Blocks {
		if more := append(slices.Clone(inner), x); len(scenarioMistakes(write(keys, more))) == 0 {
			inner = more
		}
	}
	return write(keys, inner)
}

// scenarioMistakes returns the errors of a scenario for a configuration with one upstream.
func scenarioMistakes(text string) (out []string) {
	c, _, err := config.Read([]config.File{{Name: "tern.hcl", Source: []byte("frontend \"tickets\" {\n listen = \":8080\"\n route \"all\" {\n send_to = upstream.booking\n}\n}\n" +
		"upstream \"booking\" {\n backends = { auk = { address = \"auk.tern.example:8080\", zone = \"north-quay\" } }\n resolve = \"each\"\n}\n")}})
	if err != nil {
		return []string{err.Error()}
	}
	_, found, err := scenario.Read(config.File{Name: "sample.scenario.hcl", Source: []byte(text)}, c)
	if err != nil {
		return []string{err.Error()}
	}
	for _, f := range found {
		if f.Severity == config.Error {
			out = append(out, f.Message)
		}
	}
	return out
}

// TestSamplesOfScenariosAreAccepted for every block of the language, and show more than what must be given.
func TestSamplesOfScenariosAreAccepted(t *testing.T) {
	for _, b := range scenario.Language.Blocks {
		text := scenarioSample(b)
		assert.Empty(t, scenarioMistakes(text), text)
		assert.Contains(t, text, b.Name)
		assert.Greater(t, strings.Count(text, "="), 1, text)
		for _, x := range b.Blocks {
			assert.Contains(t, text, "\n  "+x.Name, "its inner blocks as well")
		}
	}
}

// TestSamplesAreAccepted by check, for every block of the configuration.
func TestSamplesAreAccepted(t *testing.T) {
	n := 0
	var walk func(path []*config.Block)
	walk = func(path []*config.Block) {
		block := path[len(path)-1]
		if block.Free || block.Like != "" {
			return
		}
		n++
		text := sample(path)
		assert.Empty(t, mistakes(text), text)
		assert.Contains(t, text, block.Name)
		for _, inner := range block.Blocks {
			walk(append(slices.Clone(path), inner))
		}
	}
	for _, b := range config.Language.Blocks {
		walk([]*config.Block{b})
	}
	require.Greater(t, n, 25)
}
