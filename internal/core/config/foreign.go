package config

import (
	"bytes"
	"regexp"
	"strings"

	"github.com/hashicorp/hcl/v2/hclsyntax"
)

// kinds are files of another kind that stand where a configuration is wanted, by how they begin.
var kinds = []struct {
	what  string
	begin *regexp.Regexp
}{
	{"a PEM file, such as a certificate or a key; a configuration names it in certificate or key", regexp.MustCompile(`^-----BEGIN `)},
	{"a script; a configuration begins with a block or a key", regexp.MustCompile(`^#!`)},
	{"JSON Lines, such as a trace or an access log; configurations and scenarios are written in HCL", regexp.MustCompile(`^\{[^\n]*\}[ \t]*\r?\n\{`)},
	{"JSON; configurations and scenarios are written in HCL", regexp.MustCompile(`^[\[{]\s*("|\{|\[|\}|\])`)},
	{"an access log; name it as the trace of replay, or of check -trace", regexp.MustCompile(`^\S+ \S+ \S+ \[[^\]]+\] "`)},
	{"a log of W3C Extended form; name it as the trace of replay", regexp.MustCompile(`^#(Version|Fields|Software|Date): `)},
	{"a file of sections, such as a unit of systemd; configurations and scenarios are written in HCL", regexp.MustCompile(`^\[[A-Za-z][A-Za-z ._-]*\][ \t]*\r?\n`)},
	{"XML or HTML; configurations and scenarios are written in HCL", regexp.MustCompile(`^<(\?xml|!DOCTYPE|[a-zA-Z]+[ >])`)},
	{"comma separated values, such as a trace; name it as the trace of replay", regexp.MustCompile(`^[A-Za-z_/]+(,[A-Za-z_/]+){2,}[ \t]*\r?\n`)},
	{"YAML; configurations and scenarios are written in HCL", regexp.MustCompile(`^---[ \t]*\r?\n`)},
}

// foreign returns an error if a source whose syntax is broken is a file of another kind.
func foreign(name string, src []byte) error {
	begin := bytes.TrimLeft(src, " \t\r\n")
	at := 1 + bytes.Count(src[:len(src)-len(begin)], []byte("\n"))
	for _, k := range kinds {
		if k.begin.Match(begin) {
			return &UnusableError{name, at, 1, "this is " + k.what}
		}
	}
	if isYAML(begin) {
		return &UnusableError{name, at, 1, "this is YAML; configurations and scenarios are written in HCL"}
	}
	return nil
}

var yamlLine = regexp.MustCompile(`^(\s*- |\s*[A-Za-z_"][^={}]*:(\s|$))`)

// isYAML reports whether nearly all lines look like YAML, and none ends with a brace.
func isYAML(src []byte) bool {
	yes, all := 0, 0
	for _, l := range strings.Split(string(src), "\n") {
		l = strings.TrimRight(l, " \t\r")
		if l == "" || strings.HasPrefix(strings.TrimSpace(l), "#") {
			continue
		}
		all++
		if strings.HasSuffix(l, "{") || strings.HasSuffix(l, "}") {
			return false
		}
		if yamlLine.MatchString(l) {
			yes++
		}
	}
	return all > 1 && yes*10 >= all*9
}

// scenarioWords are what a scenario has at its top, and a configuration has not.
var scenarioWords = map[string]bool{"behaviour": true, "fault": true, "expect": true, "load": true, "clients": true, "streams": true, "seed": true, "instances": true, "load_factor": true}

// isScenario reports whether a source is a scenario and not a configuration.
func isScenario(body *hclsyntax.Body) bool {
	found := false
	for _, b := range body.Blocks {
		if scenarioWords[b.Type] {
			found = true
		} else if b.Type != "let" {
			return false
		}
	}
	for name := range body.Attributes {
		if !scenarioWords[name] {
			return false
		}
	}
	return found
}
