package region

import (
	"regexp"
	"regexp/syntax"
	"testing"
	"unicode/utf8"

	"kestrix/internal/core/config"
	"kestrix/internal/core/request"
	"kestrix/internal/core/route"
)

// FuzzPatterns holds automata against the matching that routes do: any text, of any pattern or
// regular expression. What an automaton says that texts look like must fit as it says, and be in
// normal form.
func FuzzPatterns(f *testing.F) {
	for kind, x := range [][2]string{{"/a/**", "/a/b"}, {"*.tern.example", "a.tern.example"}, {"*json*", "text/json"}, {"/a\\b.*|(?i)é+$", "/a-É"}} {
		f.Add(kind, x[0], x[1])
	}
	f.Add(3, "(?m)^a$\n^b?$", "a\n")
	f.Add(3, "[^\\x00-\\x{10FFFF}]|\\pL{2,3}", "éa")
	f.Add(0, "/%41/%2f*", "/A/%2Fx")
	f.Fuzz(func(t *testing.T, kind int, text, sample string) {
		if len(text) > 40 || len(sample) > 40 || !utf8.ValidString(text) || !utf8.ValidString(sample) {
			return
		}
		m := config.Match{Text: text}
		write := plainText
		var matches func(s string) bool
		a := queryValues
		switch kind & 3 {
		case 0:
			p := route.Path(text)
			write, matches, a = pathText, p.Match, paths
		case 1:
			p := route.Host(text)
			write, matches, a = hostText, p.Match, hosts
		case 2:
			p := route.Plain(text)
			matches = p.Match
		default:
			re, err := regexp.Compile("^(?:" + text + ")$")
			if err != nil {
				return
			}
			if parsed, err := syntax.Parse(text, syntax.Perl); err != nil || parsed == nil {
				return // "a)(b" is an expression only between the parentheses that are put around it
			}
			m.Regexp, matches = re, re.MatchString
		}
		if !valid(kind&3, text) {
			return
		}
		p, err := newPattern(m, write)
		if err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		r := newRunner(a, []*pattern{p})
		if got, want := r.fits(sample)[0], matches(sample); got != want {
			t.Fatalf("%q matches %q: %v, and the router says %v", sample, text, got, want)
		}
		found, ok := r.outcomes(2000)
		if !ok {
			return
		}
		for _, o := range found {
			if matches(o.text) != o.fits[0] {
				t.Fatalf("%q is said to fit %q: %v", o.text, text, o.fits[0])
			}
			if kind&3 == 0 && request.Path(o.text) != o.text {
				t.Fatalf("%q is no normal form", o.text)
			}
		}
	})
}

// valid reports whether the configuration takes a pattern: ** stands for a whole segment at one
// end, and nothing else holds it.
func valid(kind int, text string) bool {
	c := "route \"r\" {\n when {\n" + []string{"path", "host", "header"}[min(kind, 2)] + " = "
	switch kind {
	case 2, 3:
		return true
	}
	file := "frontend \"f\" {\n listen = \"127.0.0.1:1\"\n" + c + quoted(text) + "\n}\nsend_to = upstream.u\n}\n}\nupstream \"u\" {\n backends = { a = \"127.0.0.1:2\" }\n}\n"
	_, found, err := config.Read([]config.File{{Name: "t.hcl", Source: []byte(file)}})
	return err == nil && len(found) == 0
}

// quoted writes a text as HCL does.
func quoted(s string) string {
	out := []rune{'"'}
	for _, c := range s {
		switch {
		case c == '"' || c == '\\':
			out = append(out, '\\', c)
		case c == '$' || c == '%':
			out = append(out, c)
		case c < ' ':
			return `"` // not read, and so not valid
		default:
			out = append(out, c)
		}
	}
	return string(append(out, '"'))
}
