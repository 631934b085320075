package region

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kestrix/internal/core/request"
)

// outside is the condition of a route that takes all requests but those of small.
const outside = `any {
path = not(regexp("/|(/[ab]{1,2}){1,2}/?"))
}
any {
host = not(regexp("[ab]\\.x"))
}
any {
method = [not("GET"), not("POST")]
}
any {
client = not("10.0.0.0/31")
}
`

// small returns all requests of two hosts, methods and clients and of the paths that have at most two segments of
// one or two letters.
func small() []request.Request {
	segments := []string{"a", "b", "aa", "ab", "ba", "bb"}
	paths := []string{"/"}
	for _, s := range segments {
		paths = append(paths, "/"+s, "/"+s+"/")
		for _, t := range segments {
			paths = append(paths, "/"+s+"/"+t, "/"+s+"/"+t+"/")
		}
	}
	var all []request.Request
	for _, path := range paths {
		for k := range 8 {
			q, _ := request.Of([]string{"GET", "POST"}[k&1], []string{"a.x", "b.x"}[k>>1&1], path)
			q.Client = netip.AddrFrom4([4]byte{10, 0, 0, byte(k >> 2)})
			all = append(all, q)
		}
	}
	return all
}

// expression draws a regular expression over a small alphabet.
func expression(t *rapid.T, depth int) string {
	if depth == 0 {
		return rapid.SampledFrom([]string{"a", "b", "/", "[ab]", ".", "[^a]", "[^/]", ""}).Draw(t, "letter")
	}
	a := expression(t, depth-1)
	switch rapid.IntRange(0, 5).Draw(t, "shape") {
	case 0:
		return "(?:" + a + ")*"
	case 1:
		return "(?:" + a + ")?"
	case 2:
		return "(?:" + a + "|" + expression(t, depth-1) + ")"
	}
	return a + expression(t, depth-1)
}

// TestEmptinessAgreesWithBruteForce draws routes behind one that takes all but a few requests: those that take
// something are those that take one of these few.
func TestEmptinessAgreesWithBruteForce(t *testing.T) {
	requests := small()
	rapid.Check(t, func(rt *rapid.T) {
		text := when(0, outside)
		for i := range rapid.IntRange(1, 7).Draw(rt, "routes") {
			var c strings.Builder
			for range rapid.IntRange(1, 2).Draw(rt, "alternatives") {
				c.WriteString("any {\n")
				var paths []string
				for range rapid.IntRange(1, 3).Draw(rt, "paths") {
					x := fmt.Sprintf("regexp(%q)", "/"+expression(rt, 3))
					if rapid.Bool().Draw(rt, "pattern") {
						x = rapid.SampledFrom(drawn["path"][0][:8]).Draw(rt, "path")
					}
					if rapid.IntRange(0, 3).Draw(rt, "not") == 0 {
						x = "not(" + x + ")"
					}
					paths = append(paths, x)
				}
				fmt.Fprintf(&c, "path = [%s]\n", strings.Join(paths, ", "))
				for _, key := range []string{"method = %s\n|\"GET\"|\"POST\"|not(\"GET\")", "host = %s\n|\"a.x\"|\"*.x\"|not(\"a.x\")", "client = %s\n|\"10.0.0.0\"|\"10.0.0.0/8\"|not(\"10.0.0.1\")"} {
					if words := strings.Split(key, "|"); rapid.IntRange(0, 2).Draw(rt, "asks") == 0 {
						fmt.Fprintf(&c, words[0], rapid.SampledFrom(words[1:]).Draw(rt, "value"))
					}
				}
				c.WriteString("}\n")
			}
			text += when(i+1, c.String())
		}
		table := frontend(rt, text)
		p, err := New(table)
		require.NoError(rt, err)
		require.False(rt, p.TooLarge)
		require.Empty(rt, p.Undecided)
		want, got := map[int]bool{0: true}, map[int]bool{}
		for i := range requests {
			to, _ := table.Match(&requests[i])
			want[to] = true
		}
		for _, x := range p.Parts() {
			got[x.Routes[0]] = true
		}
		require.Equal(rt, want, got, text)
	})
}
