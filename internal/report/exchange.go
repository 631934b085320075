package report

import (
	"encoding/xml"
	"fmt"
	"net/url"
	"slices"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
)

// SARIF returns findings as a SARIF 2.1.0 log (OASIS Standard, 2020), which code
// hosts show beside the lines.
func SARIF(all config.Findings, version string) any {
	type object = map[string]any
	level := func(s config.Severity) string {
		return [...]string{"error", "warning", "note"}[s]
	}
	rules := []object{}
	index := map[string]int{}
	for i, r := range slices.Concat(check.Rules, check.LiveRules) {
		index[r.ID] = i
		o := object{"id": r.ID, "shortDescription": object{"text": r.Title}, "defaultConfiguration": object{"level": level(r.Severity)}}
		if r.Why != "" {
			o["fullDescription"] = object{"text": r.Why}
		}
		if r.Mend != "" {
			o["help"] = object{"text": r.Mend}
		}
		rules = append(rules, o)
	}
	results := []object{}
	for _, f := range all {
		text := f.Message
		for _, more := range []string{f.Hint, f.Witness} {
			if more != "" {
				text += "; " + more
			}
		}
		region := object{"startLine": max(f.Range.Start.Line, 1), "startColumn": max(f.Range.Start.Column, 1)}
		if f.Range.End.Line == f.Range.Start.Line && f.Range.End.Column > f.Range.Start.Column {
			region["endColumn"] = f.Range.End.Column
		}
		results = append(results, object{
			"ruleId": f.ID, "ruleIndex": index[f.ID], "level": level(f.Severity), "message": object{"text": text},
			"locations": []object{{"physicalLocation": object{"artifactLocation": object{"uri": (&url.URL{Path: f.Range.Filename}).String()}, "region": region}}},
		})
	}
	return object{
		"version": "2.1.0", "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
		"runs": []object{{
			"tool":       object{"driver": object{"name": "kestrix", "version": version, "rules": rules}},
			"columnKind": "unicodeCodePoints", "results": results,
		}},
	}
}

type junitSuites struct {
	XMLName  xml.Name     `xml:"testsuites"`
	Tests    int          `xml:"tests,attr"`
	Failures int          `xml:"failures,attr"`
	Suites   []junitSuite `xml:"testsuite"`
}

type junitSuite struct {
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Class   string        `xml:"classname,attr"`
	Name    string        `xml:"name,attr"`
	Failure *junitFailure `xml:"failure,omitempty"`
	Out     string        `xml:"system-out,omitempty"`
}

type junitFailure struct {
	Message string `xml:"message,attr"`
	Type    string `xml:"type,attr"`
	Text    string `xml:",chardata"`
}

// JUnit returns the findings of several configurations in the XML that CI servers
// read: a suite a configuration, a case a finding, or one that passed. What
// fails returns which severities count as failures.
func JUnit(names []string, found []config.Findings, fails func(config.Severity) bool) ([]byte, error) {
	all := junitSuites{}
	for i, name := range names {
		s := junitSuite{Name: name}
		for _, f := range found[i] {
			c := junitCase{Class: name, Name: fmt.Sprintf("%s %s:%d:%d", f.ID, f.Range.Filename, f.Range.Start.Line, f.Range.Start.Column)}
			text := f.Message
			for _, part := range []struct{ name, text string }{{"", f.Hint}, {"why: ", f.Why}, {"witness: ", f.Witness}, {"mend: ", f.Mend}} {
				if part.text != "" {
					text += "\n" + part.name + part.text
				}
			}
			if fails(f.Severity) {
				c.Failure = &junitFailure{f.Message, f.Severity.String(), text}
				s.Failures++
			} else {
				c.Out = f.Severity.String() + ": " + text
			}
			s.Cases = append(s.Cases, c)
		}
		if len(s.Cases) == 0 {
			s.Cases = []junitCase{{Class: name, Name: "no findings"}}
		}
		s.Tests = len(s.Cases)
		all.Tests += s.Tests
		all.Failures += s.Failures
		all.Suites = append(all.Suites, s)
	}
	text, err := xml.MarshalIndent(all, "", "  ")
	return append([]byte(xml.Header), append(text, '\n')...), err
}
