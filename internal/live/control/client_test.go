package control

import (
	"context"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestAProxyThatHangsIsToldWithItsTime: of an order that was not answered nobody knows
// whether it was carried out.
func TestAProxyThatHangsIsToldWithItsTime(t *testing.T) {
	c := &Client{Where: "127.0.0.1:9900"}
	asked := c.unreachable(context.DeadlineExceeded, 3*time.Second, http.MethodGet).Error()
	assert.Contains(t, asked, "within 3 s")
	assert.NotContains(t, asked, "is not known")
	told := c.unreachable(context.DeadlineExceeded, 30*time.Second, http.MethodPost).Error()
	assert.Contains(t, told, "within 30 s")
	assert.Contains(t, told, "whether it has done it is not known")
}
