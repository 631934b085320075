package check

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// found reads a file and holds it against every rule.
func found(t *testing.T, name string) config.Findings {
	src, err := os.ReadFile(name)
	require.NoError(t, err)
	c, reading, err := config.Read([]config.File{{Name: name, Source: src}})
	require.NoError(t, err)
	return Run(c, reading, factsOf(string(src)))
}

// factsOf reads what the comments of an example say of the files it names: a
// certificate with its key, as in
//
//	# file tickets.pem tickets.key names=tickets.tern.example from=-10d until=300d mode=0600 key=other
//
// or a file of authorities, which is as it should be.
func factsOf(src string) *Facts {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	f := &Facts{Now: now, Pairs: map[PairName]PairFact{}, Files: map[string]string{}}
	for _, line := range strings.Split(src, "\n") {
		words := strings.Fields(line)
		if len(words) < 4 || words[0] != "#" || words[1] != "file" {
			continue
		}
		x := PairFact{}
		for _, w := range words[4:] {
			name, value, _ := strings.Cut(w, "=")
			days, _ := strconv.Atoi(strings.TrimSuffix(value, "d"))
			switch name {
			case "names":
				x.Names = strings.Split(value, ",")
			case "from":
				x.From = now.AddDate(0, 0, days)
			case "until":
				x.Until = now.AddDate(0, 0, days)
			case "mode":
				mode, _ := strconv.ParseUint(value, 8, 32)
				x.KeyMode = uint32(mode)
			case "key":
				if value == "missing" {
					x.Unreadable, x.OfKey = "no such file or directory", true
				} else {
					x.Mismatch = "the public keys differ"
				}
			}
		}
		f.Pairs[PairName{words[2], words[3]}] = x
	}
	return f
}

// TestEachRuleHasAFailingAndACleanExample walks the table: in
// examples/ID/bad.hcl a comment `# want: words | words` stands on the line of
// the finding and names what it must say; good.hcl has no finding at all.
func TestEachRuleHasAFailingAndACleanExample(t *testing.T) {
	for _, r := range Rules {
		t.Run(r.ID, func(t *testing.T) {
			dir := filepath.Join("examples", r.ID)
			for _, f := range found(t, filepath.Join(dir, "good.hcl")) {
				assert.Fail(t, "the clean example has a finding", "%s:%d %s", f.ID, f.Range.Start.Line, f.Message)
			}
			bad := filepath.Join(dir, "bad.hcl")
			src, err := os.ReadFile(bad)
			require.NoError(t, err)
			line, words := wanted(string(src))
			require.NotZero(t, line, "the failing example says nothing of what it needs")
			hit := false
			for _, f := range found(t, bad) {
				if f.ID != r.ID || f.Range.Start.Line != line {
					continue
				}
				hit = true
				text := strings.Join([]string{f.Message, f.Hint, f.Witness}, " | ")
				for _, w := range words {
					assert.Contains(t, text, w)
				}
				assert.Equal(t, r.Severity, f.Severity)
				if r.Run != nil && f.Severity == config.Warning {
					assert.NotEmpty(t, f.Why, "a warning says why it matters")
				}
			}
			assert.True(t, hit, "%s does not find line %d: %v", r.ID, line, found(t, bad))
		})
	}
}

func wanted(src string) (int, []string) {
	for i, l := range strings.Split(src, "\n") {
		if _, after, ok := strings.Cut(l, "# want:"); ok {
			var words []string
			for w := range strings.SplitSeq(after, "|") {
				if w = strings.TrimSpace(w); w != "" {
					words = append(words, w)
				}
			}
			return i + 1, words
		}
	}
	return 0, nil
}

// TestEachExampleHasItsRule walks the other way.
func TestEachExampleHasItsRule(t *testing.T) {
	dirs, err := os.ReadDir("examples")
	require.NoError(t, err)
	for _, d := range dirs {
		assert.NotNil(t, Find(d.Name()), "examples/%s belongs to no rule", d.Name())
	}
	assert.Len(t, dirs, len(Rules))
}

func TestTheRuleTableIsSound(t *testing.T) {
	seen := map[string]bool{}
	for _, r := range Rules {
		assert.Regexp(t, `^KX[0-9]{3}$`, r.ID)
		assert.False(t, seen[r.ID], "%s stands twice", r.ID)
		seen[r.ID] = true
		assert.NotEmpty(t, r.Title, r.ID)
	}
	assert.Nil(t, Find("KX999"))
}

func TestBrokenSyntaxIsNotHeldAgainstRules(t *testing.T) {
	c, reading, err := config.Read([]config.File{{Name: "b.hcl", Source: []byte("upstream \"a\" {\n  backends = { b = \"c:1\" }\n  algorithm =\n}\n")}})
	require.NoError(t, err)
	for _, f := range Run(c, reading, nil) {
		assert.Equal(t, config.IDSyntax, f.ID, "%s: what is missing may only be unreadable", f.Message)
	}
}

func TestListenersThatClash(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"0.0.0.0:80", "[::]:80", false},
		{"0.0.0.0:80", "127.0.0.1:80", true},
		{"[::]:80", "[::1]:80", true},
		{"127.0.0.1:80", "127.0.0.2:80", false},
		{"127.0.0.1:80", "127.0.0.1:81", false},
		{"unix:/a", "unix:/a", true},
		{"unix:/a", "unix:/b", false},
		{"host:80", "host:80", true},
		{"host:80", "0.0.0.0:80", false},
		{"[::1]:80", "[0:0::1]:80", true},
	} {
		a, err := config.ParseAddress(c.a)
		require.NoError(t, err)
		b, err := config.ParseAddress(c.b)
		require.NoError(t, err)
		assert.Equal(t, c.want, clash(a, b), "%s and %s", c.a, c.b)
		assert.Equal(t, c.want, clash(b, a), "%s and %s", c.b, c.a)
		text := fmt.Sprintf("control {\n listen = %q\n}\nfrontend \"web\" {\n listen = %q\n}\n", c.a, c.b)
		read, reading, err := config.Read([]config.File{{Name: "c.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		hit := slices.ContainsFunc(Run(read, reading, nil), func(f config.Finding) bool {
			return f.ID == "KX107" && strings.HasPrefix(f.Hint, "control uses it at c.hcl:2")
		})
		assert.Equal(t, c.want, hit, "control at %s, a frontend at %s", c.a, c.b)
	}
}

// TestFilesThatAreWritten: which names are one file, as far as names tell.
func TestFilesThatAreWritten(t *testing.T) {
	for _, c := range []struct {
		log, record string
		want        bool
	}{
		{"a.log", "a.log", true}, {"./a.log", "x/../a.log", true}, {"/var/a.log", "a.log", false}, {"a.log", "b.log", false},
		{"/dev/null", "/dev/null", false}, {"stdout", "stdout", false}, {"conf/t.hcl", "b.log", true}, {"conf/404.html", "b.log", true}, {"404.html", "b.log", false},
	} {
		text := fmt.Sprintf("record = %q\naccess_log {\n to = %q\n}\nfrontend \"web\" {\n listen = \"127.0.0.1:80\"\n errors {\n pages = { \"404\" = \"404.html\" }\n }\n}\n", c.record, c.log)
		read, reading, err := config.Read([]config.File{{Name: "conf/t.hcl", Source: []byte(text)}})
		require.NoError(t, err)
		hit := slices.ContainsFunc(Run(read, reading, nil), func(f config.Finding) bool { return f.ID == "KX113" })
		assert.Equal(t, c.want, hit, "%+v", c)
	}
}

func TestBackendsThatAreOurselves(t *testing.T) {
	for _, c := range []struct {
		to, listener string
		want         bool
	}{
		{"127.0.0.1:80", "0.0.0.0:80", true},
		{"localhost:80", "127.0.0.1:80", true},
		{"localhost:80", "0.0.0.0:80", true},
		{"localhost:80", "127.0.0.2:80", false},
		{"192.0.2.1:80", "192.0.2.1:80", true},
		{"192.0.2.1:80", "0.0.0.0:80", false}, // perhaps ours, perhaps not
		{"[::1]:80", "[::]:80", true},
		{"[::1]:80", "0.0.0.0:80", false},
		{"127.0.0.1:81", "0.0.0.0:80", false},
		{"unix:/a", "0.0.0.0:80", false},
	} {
		to, err := config.ParseAddress(c.to)
		require.NoError(t, err)
		l, err := config.ParseAddress(c.listener)
		require.NoError(t, err)
		assert.Equal(t, c.want, Reaches(to, l), "%s to %s", c.to, c.listener)
	}
}

// FuzzRules holds whatever can be read against every rule.
func FuzzRules(f *testing.F) {
	for _, r := range Rules {
		bad, good := r.Examples()
		f.Add([]byte(bad))
		f.Add([]byte(good))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		c, reading, err := config.Read([]config.File{{Name: "f.hcl", Source: src}})
		if err != nil {
			return
		}
		for _, x := range Run(c, reading, factsOf(string(src))) {
			if x.Range.Start.Line < 1 || x.Message == "" || Find(x.ID) == nil {
				t.Fatalf("a finding without place, words or rule: %+v", x)
			}
		}
	})
}
