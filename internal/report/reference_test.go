package report

import (
	"flag"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
)

var update = flag.Bool("update", false, "write the generated pages of docs/ anew")

const generated = "Generated from the program's own table; `go test ./internal/report -update` writes it anew."

// TestTheReferenceIsFresh holds the pages of docs/ to the tables they are made
// from.
func TestTheReferenceIsFresh(t *testing.T) {
	pages := map[string]string{
		"configuration.md": languagePage("The configuration language", "HCL syntax with words of its own. A key or block that is not here is an error. "+generated, config.Language),
		"causes.md":        causesPage(generated),
		"columns.md":       columnsPage(generated),
		"events.md":        eventsPage(generated),
		"scenario.md":      languagePage("The scenario language", "What happens during a replay, in the syntax of the configuration. "+generated, scenario.Language),
	}
	maps.Copy(pages, rulePages(generated))
	for name, text := range pages {
		file := "../../docs/" + name
		if *update {
			require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
			require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
		}
		old, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.True(t, string(old) == text, "%s is stale", name)
	}
	onPages := 0
	for _, f := range families {
		onPages += len(f.rules())
	}
	assert.Equal(t, len(check.Rules)+len(check.LiveRules), onPages, "each rule stands in one family")
	for _, r := range check.Rules {
		assert.NotEmpty(t, r.Why, r.ID)
		assert.NotEmpty(t, r.Fix, r.ID)
	}
}

// TestDefaultsHaveReasons walks both languages. That a switch is off, or that there is no
// limit, needs none.
func TestDefaultsHaveReasons(t *testing.T) {
	var walk func(b *config.Block)
	walk = func(b *config.Block) {
		for _, k := range b.Keys {
			off := []string{"", "false", "0", `"0s"`, `"0%"`, `"none"`}
			assert.True(t, k.Why != "" || slices.Contains(off, k.Default), "%s.%s = %s", b.Name, k.Name, k.Default)
			assert.False(t, k.Why != "" && k.Default == "", "%s.%s: a reason without a default", b.Name, k.Name)
			if k.Fields != nil {
				walk(k.Fields)
			}
		}
		for _, c := range b.Blocks {
			walk(c)
		}
	}
	walk(config.Language)
	walk(scenario.Language)
}

// TestTheReadmeLinksWhatThereIs walks the README's links and the screenshots.
func TestTheReadmeLinksWhatThereIs(t *testing.T) {
	text, err := os.ReadFile("../../README.md")
	require.NoError(t, err)
	parts := strings.Split(string(text), "](")
	require.Greater(t, len(parts), 5)
	for _, p := range parts[1:] {
		link, _, _ := strings.Cut(p, ")")
		link, _, _ = strings.Cut(link, "#")
		_, err := os.Stat("../../" + link)
		assert.NoError(t, err)
	}
	shots, err := os.ReadDir("../../docs/screenshots")
	require.NoError(t, err)
	assert.Less(t, len(shots), 20)
	for _, s := range shots {
		assert.Contains(t, string(text), "docs/screenshots/"+s.Name())
	}
}

// TestTheIndexListsEveryDocument walks the links of README and of all documents; the index links each document.
func TestTheIndexListsEveryDocument(t *testing.T) {
	pages, err := filepath.Glob("../../docs/*.md")
	require.NoError(t, err)
	index, err := os.ReadFile("../../docs/README.md")
	require.NoError(t, err)
	link := regexp.MustCompile(`\]\(([^)#]+)(#[^)]*)?\)`)
	for _, page := range append(pages, "../../README.md") {
		name := filepath.Base(page)
		if page != "../../README.md" && name != "README.md" {
			assert.Contains(t, string(index), "("+name+")", "the index links %s", name)
		}
		text, err := os.ReadFile(page)
		require.NoError(t, err)
		for _, m := range link.FindAllStringSubmatch(string(text), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			_, err := os.Stat(filepath.Join(filepath.Dir(page), m[1]))
			assert.NoError(t, err, "%s links %s", name, m[1])
		}
	}
}
