package cli

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// TestTheDemoPauses until Enter is typed, and ends at q, at the end of input, and with Ctrl-C.
func TestTheDemoPauses(t *testing.T) {
	var asked bytes.Buffer
	d := &demo{env: &Env{Stderr: &asked}, keys: typed(strings.NewReader("\nquit\n"))}
	assert.True(t, d.pause(t.Context()), "Enter goes on")
	assert.False(t, d.pause(t.Context()), "q quits")
	assert.False(t, d.pause(t.Context()), "there is nothing more to read")
	assert.Equal(t, 3, strings.Count(asked.String(), "Enter: next step"))
	stopped, stop := context.WithCancel(t.Context())
	stop()
	d.keys = make(chan string)
	assert.False(t, d.pause(stopped))
	d.keys = nil
	assert.True(t, d.pause(t.Context()), "without a terminal there is no pause")
}
