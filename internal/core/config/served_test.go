package config

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWhatIsServedReadsTheSameAnywhere: without this machine's environment and files, and without
// secrets.
func TestWhatIsServedReadsTheSameAnywhere(t *testing.T) {
	const seal, hash, other = "a secret of the house", "$2a$10$abcdefghijklmnopqrstuuABCDEFGHIJKLMNOPQRSTUVWXYZ01234", "another secret, of a file"
	world := World{
		Env: func(name string) (string, bool) {
			v, ok := map[string]string{"SEAL": seal, "PORT": "9001", "ODD": "a\"b\\${c}\n\té"}[name]
			return v, ok
		},
		File: func(string) ([]byte, error) { return []byte(other + "\n"), nil },
	}
	text := "\xef\xbb\xbf" + `let {
  seal  = env("SEAL")
  again = "` + seal + `"
  plain = "booking"
}
frontend "web" {
  listen = "127.0.0.1:8080"
  route "odd" {
    when {
      path = "/odd"
    }
    reply {
      body = env("ODD")
    }
  }
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    a = "127.0.0.1:${env("PORT")}"
  }
  sticky {
    by     = "cookie"
    secret = let.seal
  }
}
upstream "more" {
  backends = {
    a = "127.0.0.1:9002"
  }
  sticky {
    by     = "cookie"
    secret = file("seal.txt")
  }
}
upstream "third" {
  backends = {
    a = "127.0.0.1:9003"
  }
  sticky {
    by     = "cookie"
    secret = <<E
` + other + `, in a heredoc
E
  }
}
control {
  user "nora" {
    password = "` + hash + `"
    role     = "operator"
  }
}
`
	was, found, err := ReadIn([]File{{"t.hcl", []byte(text)}}, world)
	require.NoError(t, err)
	for _, f := range found {
		assert.NotEqual(t, Error, f.Severity, f.Message)
	}
	served := was.Resolved()
	for _, secret := range []string{seal, hash, other} {
		assert.NotContains(t, string(served[0].Source), secret)
	}
	assert.NotContains(t, string(served[0].Source), "env(")
	_, found, err = Read(served)
	require.NoError(t, err)
	assert.Len(t, found, 4, "which is not to be served again")
	is, found, err := ReadIn(served, World{Hidden: true})
	require.NoError(t, err, "%s", served[0].Source)
	for _, f := range found {
		assert.NotEqual(t, Error, f.Severity, "%s in\n%s", f.Message, served[0].Source)
	}
	require.Len(t, is.Upstreams, 3)
	for i := range was.Upstreams {
		assert.Equal(t, was.Upstreams[i].Settings, is.Upstreams[i].Settings)
		assert.Equal(t, was.Upstreams[i].Backends[0].Address, is.Upstreams[i].Backends[0].Address)
	}
	assert.Equal(t, was.Settings, is.Settings)
	assert.Equal(t, was.Frontends[0].Routes[0].Reply.Body, is.Frontends[0].Routes[0].Reply.Body)
	assert.Equal(t, served, is.Resolved(), "what is resolved stays")
	assert.True(t, strings.HasPrefix(string(served[0].Source), "\xef\xbb\xbflet"))
}
