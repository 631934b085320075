package wire

import (
	"net/http"

	"kestrix/internal/core/request"
)

// checkTarget returns what is wrong with the target of a request, nil if nothing is;
// see request.ValidTarget.
func checkTarget(method, target string) error {
	r := request.ValidTarget(method, target)
	switch {
	case r == nil:
		return nil
	case r.Status == http.StatusBadRequest:
		return malformed("%s", r.Why)
	}
	return &refusal{r.Status, r.Why}
}

// refusal is an error with a status of its own; errors without one are answered
// with 400.
type refusal struct {
	status int
	what   string
}

func (e *refusal) Error() string { return e.what }
