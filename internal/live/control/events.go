package control

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/events"
)

// mostNamed is how many objects or kinds a query may name.
const mostNamed = 100

// Events is the body of a response of GET /events.
type Events struct {
	Events []status.Event `json:"events"` // the newest first
}

// listEvents answers with the events that a query selects.
func (c *Server) listEvents(w http.ResponseWriter, r *http.Request, _ string) {
	q, err := readQuery(r.URL.Query(), time.Now())
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	answerJSON(w, http.StatusOK, Events{c.o.Events.Find(q)})
}

// readQuery reads the parameters of GET /events.
func readQuery(from url.Values, now time.Time) (q events.Query, err error) {
	for name, values := range from {
		value := values[len(values)-1]
		if len(values) > mostNamed {
			return q, fmt.Errorf("%s is given %d times; at most %d are allowed", name, len(values), mostNamed)
		}
		switch name {
		case "after":
			q.After, err = strconv.ParseUint(value, 10, 64)
		case "most":
			q.Most, err = strconv.Atoi(value)
		case "since":
			q.Since, err = moment(now, value)
		case "until":
			q.Until, err = moment(now, value)
		case "object":
			q.Objects = values
		case "kind":
			for _, v := range values {
				if q.Kinds = append(q.Kinds, status.EventKind(v)); !status.EventKind(v).Known() {
					return q, fmt.Errorf("there is no kind of event %q", v)
				}
			}
		case "severity":
			q.Severity = status.Severity(value)
			if !slices.Contains(status.Severities, q.Severity) {
				return q, fmt.Errorf("there is no severity %q; known: error, warning, info", value)
			}
		default:
			return q, fmt.Errorf("there is no parameter %q; %s", name, config.DidYouMean(name, []string{"after", "kind", "most", "object", "severity", "since", "until"}))
		}
		if err != nil || q.Most < 0 {
			return q, fmt.Errorf("%s cannot be %q; after and most are numbers, since and until durations before now, like 1h, or times like 2026-11-23T06:55:08Z", name, value)
		}
	}
	return q, nil
}

// moment reads a time, or a duration before now.
func moment(now time.Time, value string) (time.Time, error) {
	if d, err := time.ParseDuration(value); err == nil && d >= 0 {
		return now.Add(-d), nil
	}
	return time.Parse(time.RFC3339Nano, value)
}

// writeQuery is the reverse of readQuery.
func writeQuery(q *events.Query) string {
	v := url.Values{}
	set := func(name, value string, wanted bool) {
		if wanted {
			v.Add(name, value)
		}
	}
	set("after", strconv.FormatUint(q.After, 10), q.After > 0)
	set("most", strconv.Itoa(q.Most), q.Most > 0)
	set("since", q.Since.Format(time.RFC3339Nano), !q.Since.IsZero())
	set("until", q.Until.Format(time.RFC3339Nano), !q.Until.IsZero())
	set("severity", string(q.Severity), q.Severity != "")
	for _, o := range q.Objects {
		set("object", o, true)
	}
	for _, k := range q.Kinds {
		set("kind", string(k), true)
	}
	return strings.TrimSuffix("/events?"+v.Encode(), "?")
}

// Events asks for the events that a query selects, the newest first.
func (c *Client) Events(ctx context.Context, q events.Query) ([]status.Event, error) {
	var x Events
	err := c.call(ctx, writeQuery(&q), nil, &x)
	return x.Events, err
}
