package control

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
)

// listRequests answers with the kept requests that a query selects.
func (c *Server) listRequests(w http.ResponseWriter, r *http.Request, user string) {
	q, err := readRequestQuery(r.URL.Query())
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	answerJSON(w, http.StatusOK, c.requests(q, user))
}

// requests returns the kept requests that a query selects, as a user may see them: a query may
// hold what opens a session, so that readers see that there was one.
func (c *Server) requests(q status.RequestQuery, user string) status.Requests {
	found := c.proxy.Requests(q)
	if c.operates(user) {
		return found
	}
	for i := range found.Requests {
		if path, _, has := strings.Cut(found.Requests[i].Path, "?"); has {
			found.Requests[i].Path = path + "?..."
		}
	}
	return found
}

// readRequestQuery reads the parameters of GET /requests.
func readRequestQuery(from url.Values) (q status.RequestQuery, err error) {
	for name, values := range from {
		value := values[len(values)-1]
		switch name {
		case "id":
			q.ID = value
		case "frontend":
			q.Frontend = value
		case "route":
			q.Route = value
		case "cause":
			q.Cause = value
		case "kind":
			for _, v := range values {
				switch v {
				case "failed":
					q.Failed = true
				case "slow":
					q.Slow = true
				default:
					return q, fmt.Errorf("there is no kind of request %q; known: failed, slow", v)
				}
			}
		case "most":
			if q.Most, err = strconv.Atoi(value); err != nil || q.Most < 0 {
				return q, fmt.Errorf("most cannot be %q; it is a number", value)
			}
		default:
			return q, fmt.Errorf("there is no parameter %q; %s", name, config.DidYouMean(name, []string{"cause", "frontend", "id", "kind", "most", "route"}))
		}
	}
	return q, nil
}

// writeRequestQuery is the reverse of readRequestQuery.
func writeRequestQuery(q *status.RequestQuery) string {
	v := url.Values{}
	for name, value := range map[string]string{"id": q.ID, "frontend": q.Frontend, "route": q.Route, "cause": q.Cause} {
		if value != "" {
			v.Set(name, value)
		}
	}
	if q.Failed {
		v.Add("kind", "failed")
	}
	if q.Slow {
		v.Add("kind", "slow")
	}
	if q.Most > 0 {
		v.Set("most", strconv.Itoa(q.Most))
	}
	return strings.TrimSuffix("/requests?"+v.Encode(), "?")
}

// Requests asks for the kept requests that a query selects, the newest first.
func (c *Client) Requests(ctx context.Context, q status.RequestQuery) (*status.Requests, error) {
	x := new(status.Requests)
	err := c.call(ctx, writeRequestQuery(&q), nil, x)
	return x, err
}
