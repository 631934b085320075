package report

import (
	"encoding/xml"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"kestrix/internal/core/check"
	"kestrix/internal/core/config"
)

// SARIF returns findings as a SARIF 2.1.0 log (OASIS Standard, 2020), which code
// hosts show beside the lines. What comments allow is in it as suppressed; against a baseline each result says whether
// it is new. Files are named from the folder in which the command ran, SRCROOT.
func SARIF(all []Checked, allowed []check.Allowed, baseline bool, version string) any {
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
		o["help"] = object{"text": strings.TrimSpace(r.Fix + "\nkestrix check -explain " + r.ID + " shows examples")}
		o["helpUri"] = "urn:kestrix:rule:" + r.ID
		rules = append(rules, o)
	}
	results := []object{}
	result := func(f config.Finding) object {
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
		return object{
			"ruleId": f.ID, "ruleIndex": index[f.ID], "level": level(f.Severity), "message": object{"text": text},
			"locations": []object{{"physicalLocation": object{"artifactLocation": artifact(f.Range.Filename), "region": region}}},
		}
	}
	for _, f := range all {
		r := result(f.Finding)
		r["partialFingerprints"] = object{"kestrix/v1": f.Fingerprint}
		if baseline {
			r["baselineState"] = map[bool]string{true: "unchanged", false: "new"}[f.Old]
		}
		results = append(results, r)
	}
	for _, a := range allowed {
		r := result(a.Finding)
		r["suppressions"] = []object{{"kind": "inSource", "justification": a.Because}}
		results = append(results, r)
	}
	return object{
		"version": "2.1.0", "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
		"runs": []object{{
			"originalUriBaseIds": object{"SRCROOT": object{"description": object{"text": "the folder in which the command ran"}}},
			"tool":               object{"driver": object{"name": "kestrix", "version": version, "rules": rules}},
			"columnKind":         "unicodeCodePoints", "results": results,
		}},
	}
}

// artifact names a file: from SRCROOT, unless its name is absolute.
func artifact(name string) map[string]any {
	uri := (&url.URL{Path: filepath.ToSlash(name)}).String()
	if filepath.IsAbs(name) {
		return map[string]any{"uri": "file://" + uri}
	}
	return map[string]any{"uri": strings.TrimPrefix(uri, "./"), "uriBaseId": "SRCROOT"}
}

var (
	annotated = strings.NewReplacer("%", "%25", "\r", "%0D", "\n", "%0A")
	property  = strings.NewReplacer("%", "%25", "\r", "%0D", "\n", "%0A", ":", "%3A", ",", "%2C")
)

// Annotations writes findings as workflow command lines, which code hosts read from the output of a job and show beside
// the lines.
func Annotations(all config.Findings) string {
	var b strings.Builder
	for _, f := range all {
		text := f.Message
		for _, part := range []struct{ name, text string }{{"", f.Hint}, {"witness: ", f.Witness}, {"fix: ", f.Fix}} {
			if part.text != "" {
				text += "\n" + part.name + part.text
			}
		}
		kind := [...]string{"error", "warning", "notice"}[f.Severity]
		fmt.Fprintf(&b, "::%s file=%s,line=%d,col=%d,endLine=%d,endColumn=%d,title=%s::%s\n", kind, property.Replace(f.Range.Filename), max(f.Range.Start.Line, 1), max(f.Range.Start.Column, 1),
			max(f.Range.End.Line, 1), max(f.Range.End.Column, 1), f.ID, annotated.Replace(text))
	}
	return b.String()
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
			for _, part := range []struct{ name, text string }{{"", f.Hint}, {"why: ", f.Why}, {"witness: ", f.Witness}, {"fix: ", f.Fix}} {
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
