package request

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestRequestsThatAreRefusedBeforeTheyAreRouted(t *testing.T) {
	for _, c := range []struct {
		method, host, target string
		status               int
	}{
		{"GET", "a.example:8080", "/a?b", 0}, {"GET", "", "/", 0}, {"OPTIONS", "a", "*", 0}, {"GET", "a", "http://b/x", 0}, {"GET", "[::1]", "/a|b\xff", 0},
		{"GET", "u@a", "/", 400}, {"GET", "a b", "/", 400}, {"GET", "a:0", "/", 400}, {"GET", "a:65536", "/", 400}, {"GET", "[::1", "/", 400}, {"GET", "[fe80::1%25eth0]", "/", 400}, {"GET", "*", "/", 400},
		{"GET", "a", "", 400}, {"GET", "a", "/a b", 400}, {"GET", "a", "/a#b", 400}, {"GET", "a", "/%z1", 400}, {"GET", "a", "/%1", 400}, {"GET", "a", "*", 400}, {"GET", "a", "b", 400},
		{"GET", "a", "http://u@b/", 400}, {"GET", "a", "http:///", 400}, {"GET", "a", "ftp://b/", 421},
		{"PRI", "a", "/", 400}, {"CONNECT", "a", "/", 400}, {"CONNECT", "a", "b:443", 501}, {"TRACE", "a", "/", 501},
	} {
		status := 0
		if r := Valid(c.method, c.host, c.target); r != nil {
			status = r.Status
			assert.NotEmpty(t, r.Why)
		}
		assert.Equal(t, c.status, status, "%+v", c)
	}
	assert.True(t, SameHost("A.example", "a.example:80", "http"))
	assert.False(t, SameHost("a.example", "a.example:80", "https"))
	assert.False(t, SameHost("a", "b", "http"))
}
