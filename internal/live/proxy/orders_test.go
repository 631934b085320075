package proxy

import (
	"context"
	"encoding/json"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/status"
	"kestrix/internal/live/names"
)

// orders is a file of orders in memory, and what is told of them.
type orders struct {
	mu   sync.Mutex
	text []byte
}

func (o *orders) keep(all []status.Held) error {
	o.mu.Lock()
	defer o.mu.Unlock()
	var err error
	o.text, err = json.Marshal(all)
	return err
}

func (o *orders) held(t *testing.T) (all []status.Held) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.text != nil {
		require.NoError(t, json.Unmarshal(o.text, &all))
	}
	return all
}

// stand words how the backends of an upstream stand.
func (w *world) stand() string {
	var out []string
	for _, u := range w.proxy.Status().Upstreams {
		for _, b := range u.Backends {
			x := b.Name + " " + b.State
			if b.Weight != 1 {
				x += " " + string(rune('0'+b.Weight))
			}
			out = append(out, x)
		}
	}
	return strings.Join(out, ", ")
}

// tell gives an order and returns what comes of it.
func (w *world) tell(backend, do string, more ...func(*status.Order)) string {
	o := status.Order{Backend: backend, Do: do}
	for _, f := range more {
		f(&o)
	}
	told, err := w.proxy.Operate(o, "mary")
	if err != nil {
		return err.Error()
	}
	var out []string
	for _, x := range told.Orders {
		out = append(out, x.Backend+" "+x.After)
	}
	return strings.Join(out, "; ")
}

func weighed(n int) func(*status.Order) {
	return func(o *status.Order) { o.Do, o.Weight = "weight", &n }
}
func lasting(seconds float64) func(*status.Order) { return func(o *status.Order) { o.For = seconds } }
func because(text string) func(*status.Order)     { return func(o *status.Order) { o.Because = text } }

// TestOrdersOutliveARestart: those in force, with their ends, until the configuration has
// another weight; one whose backend has gone is kept for 30 days.
func TestOrdersOutliveARestart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var kept orders
		text := app("")
		start := func() *world {
			return newWorldWith(t, text, func(o *Options) { o.Held, o.Keep = kept.held(t), kept.keep })
		}
		w := start()
		assert.Equal(t, "app.a draining, weight 1", w.tell("app.a", "drain", lasting(600), because("a new disk")))
		w.tell("app.b", "", weighed(3))
		w.tell("app.c", "park")
		time.Sleep(time.Minute)
		w.close()
		w = start()
		assert.Equal(t, "a draining, b up 3, c parked", w.stand())
		told := w.news("app.a")
		assert.Equal(t, "as before this start: draining, weight 1", told[len(told)-1].Text)
		a := w.proxy.Status().Upstreams[0].Backends[0]
		assert.Equal(t, 540.0, time.Until(*a.Until).Seconds())
		assert.Equal(t, []string{"drain", "mary", "a new disk"}, []string{a.Orders[0].Do, a.Orders[0].By, a.Orders[0].Because})
		time.Sleep(9*time.Minute + time.Second)
		assert.Equal(t, "a up, b up 3, c parked", w.stand(), "its time is over")
		assert.Len(t, kept.held(t), 2)
		w.close()

		// The configuration has another weight for b, and c has another address, when it starts again.
		text = strings.NewReplacer("\"192.0.2.2:80\"", "{ address = \"192.0.2.2:80\", weight = 2 }", "192.0.2.3", "192.0.2.4").Replace(app(""))
		w = start()
		assert.Equal(t, "a up, b up 2, c up", w.stand())
		told = w.news("app.b")
		assert.Equal(t, "weight 3, by mary is over: the configuration has weight 2, and had 1", told[len(told)-1].Text)
		without := w.proxy.Status().Orders
		require.Len(t, without, 1)
		assert.Equal(t, "192.0.2.3:80", without[0].Address)
		time.Sleep(29 * 24 * time.Hour)
		text = app("")
		require.NoError(t, w.proxy.Apply(parse(t, text)))
		assert.Equal(t, "a up, b up, c parked", w.stand(), "it is there again")
		assert.Empty(t, w.proxy.Status().Orders)
		require.NoError(t, w.proxy.Apply(parse(t, strings.Replace(text, "c = \"192.0.2.3:80\"", "", 1))))
		assert.Len(t, w.proxy.Status().Orders, 1)
		time.Sleep(31 * 24 * time.Hour)
		require.NoError(t, w.proxy.Apply(parse(t, strings.Replace(text, "c = \"192.0.2.3:80\"", "", 1))))
		assert.Empty(t, kept.held(t))
		w.close()
	})
}

// TestOrdersOfTwoKinds: a weight ends no draining, and draining no weight; return ends both.
// A reload keeps them, also for a backend that gets another address.
func TestOrdersOfTwoKinds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, app(""))
		defer w.close()
		w.tell("app.a", "drain", lasting(3))
		w.tell("app.a", "", weighed(2))
		time.Sleep(4 * time.Second)
		assert.Equal(t, "a up 2, b up, c up", w.stand(), "draining is over, and the weight is not")
		w.tell("app.a", "", weighed(4), lasting(60))
		w.tell("app.a", "park")
		require.NoError(t, w.proxy.Apply(parse(t, strings.Replace(app("algorithm = \"random\""), "192.0.2.1:80", "192.0.2.9:80", 1))))
		assert.Equal(t, "a parked 4, b up, c up", w.stand())
		time.Sleep(61 * time.Second)
		assert.Equal(t, "a parked, b up, c up", w.stand())
		w.tell("app.a", "", weighed(5))
		assert.Equal(t, "app.a up, weight 1", w.tell("app.a", "return"), "a weight that was set is over, too")

		// Weight 0 is out of rotation.
		w.tell("app.a", "", weighed(0))
		assert.False(t, w.proxy.Status().Upstreams[0].Backends[0].InRotation())
		w.tell("app.b", "park")
		assert.Equal(t, `app.c is the last of "app" in rotation; without it no backend answers`, w.tell("app.c", "", weighed(0)))
		w.tell("app.c", "", weighed(0), func(o *status.Order) { o.Insist = true })
		told := w.news("app")
		assert.Equal(t, "unavailable no backend is in rotation; requests are answered with 503", string(told[len(told)-1].Kind)+" "+told[len(told)-1].Text)
		code, _ := w.get(base + "/")
		assert.Equal(t, 503, code)
		w.tell("app.c", "return")
		told = w.news("app")
		assert.Equal(t, status.EventAvailable, told[len(told)-1].Kind)
	})
}

// TestOrdersForSeveral: patterns, lists, and a name whose addresses are backends each, those
// included that it gets later.
func TestOrdersForSeveral(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		addresses := []string{"192.0.2.11", "192.0.2.12"}
		w := newWorldWith(t, app("")+strings.NewReplacer("app", "rep", "web", "other", "8080", "8081").Replace(front)+"upstream \"rep\" {\n resolve = \"each\"\n resolve_every = \"10s\"\n backends = {\n rep = \"birds.example:80\"\n own = \"192.0.2.20:80\"\n}\n}\n", func(o *Options) {
			o.Names = names.Func(func(context.Context, string) (out []netip.Addr, err error) {
				mu.Lock()
				defer mu.Unlock()
				for _, a := range addresses {
					out = append(out, netip.MustParseAddr(a))
				}
				return out, nil
			})
		})
		defer w.close()
		assert.Equal(t, "app.a parked, weight 1; app.b parked, weight 1", w.tell("app.b, app.a,app.b", "park"))
		assert.Equal(t, "app.a up, weight 1; app.b up, weight 1; app.c up, weight 1", w.tell("app.*", "return"))
		assert.Equal(t, `these are the last of "app" in rotation; without it no backend answers`, w.tell("app.*", "drain"))
		assert.Equal(t, `no backend matches "apt.*"; did you mean app.a?`, w.tell("apt.*", "drain"))
		assert.Equal(t, `the upstream "app" has no backend "z"; did you mean app.a?`, w.tell("app.a,app.z", "drain"))
		assert.Equal(t, "a up, b up, c up, rep-192.0.2.11 up, rep-192.0.2.12 up, own up", w.stand(), "nothing was done")

		assert.Equal(t, "rep.rep-192.0.2.11 draining, weight 1; rep.rep-192.0.2.12 draining, weight 1", w.tell("rep.rep", "drain"))
		mu.Lock()
		addresses = []string{"192.0.2.12", "192.0.2.13"}
		mu.Unlock()
		time.Sleep(11 * time.Second)
		assert.Equal(t, "a up, b up, c up, rep-192.0.2.12 draining, rep-192.0.2.13 draining, own up", w.stand(), "the one that has come, too")
		assert.Equal(t, "rep.rep-192.0.2.12 up, weight 1", w.tell("rep.rep-192.0.2.12", "return"))
		assert.Equal(t, "a up, b up, c up, rep-192.0.2.12 up, rep-192.0.2.13 draining, own up", w.stand(), "one of them alone")
		w.tell("rep.rep", "return")
		assert.Equal(t, "a up, b up, c up, rep-192.0.2.12 up, rep-192.0.2.13 up, own up", w.stand())
		assert.Equal(t, "why it is done is a text of at most 200 bytes, on one line", w.tell("app.a", "drain", because("a\nb")))
		w.tell("app.a", "drain", because("a new disk"))
		told := w.news("app.a")
		assert.Equal(t, "drain, by mary, because a new disk; now draining, weight 1; before: up, weight 1", told[len(told)-1].Text)
	})
}

// TestAHungBackendIsSeen: it has answered nothing, its clients leave after three seconds, and
// it is suspended ten seconds after the first of them; who is slow, and who drained, too.
func TestAHungBackendIsSeen(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := newWorld(t, front+"upstream \"app\" {\n backends = {\n a = \"192.0.2.1:80\"\n b = \"192.0.2.2:80\"\n}\n probe \"tcp\" {\n every = \"1s\"\n timeout = \"500ms\"\n}\n suspend {\n silent_after = \"10s\"\n}\n}\n")
		defer w.close()
		hung := make(chan struct{})
		w.start("192.0.2.1:80", func(http.ResponseWriter, *http.Request) { <-hung })
		w.start("192.0.2.2:80", func(out http.ResponseWriter, r *http.Request) { time.Sleep(200 * time.Millisecond) })
		time.Sleep(time.Second)
		began := time.Now()
		var wg sync.WaitGroup
		for i := range 60 {
			wg.Go(func() {
				time.Sleep(time.Duration(i) * 300 * time.Millisecond)
				ctx, cancel := context.WithTimeout(t.Context(), 3*time.Second)
				defer cancel()
				req, _ := http.NewRequestWithContext(ctx, "GET", base+"/", nil)
				if res, err := w.client.Do(req); err == nil {
					res.Body.Close()
				}
			})
		}
		time.Sleep(8 * time.Second) // a client that has closed its connection has left after half_closed
		a := w.proxy.Status().Upstreams[0].Backends[0]
		assert.Positive(t, a.ClientLeft)
		require.NotNil(t, a.SilentSince)
		assert.WithinDuration(t, began, *a.SilentSince, time.Second)
		assert.InDelta(t, 3+2, a.Elapsed.P50, 0.5, "as long as its clients waited, and half_closed")
		assert.Zero(t, a.P50)
		wg.Wait()
		suspended := w.news("app.a")
		last := suspended[len(suspended)-1]
		assert.Equal(t, status.EventKind("suspended"), last.Kind)
		assert.InDelta(t, 10, last.At.Sub(*a.SilentSince).Seconds(), 0.1)
		b := w.proxy.Status().Upstreams[0].Backends[1]
		assert.InDelta(t, 0.2, b.P99, 0.02)
		time.Sleep(7 * time.Minute)
		b = w.proxy.Status().Upstreams[0].Backends[1]
		assert.Zero(t, b.P99, "nothing in the last five minutes")
		assert.InDelta(t, 0.2, b.Total.P99, 0.02)
		w.tell("app.b", "drain", func(o *status.Order) { o.Insist = true })
		w.kill("192.0.2.2:80")
		time.Sleep(5 * time.Second)
		b = w.proxy.Status().Upstreams[0].Backends[1]
		assert.Equal(t, "draining, down", b.State+", "+b.Beneath)
		close(hung)
		time.Sleep(time.Minute)
	})
}

func order(backend, do string) status.Order {
	return status.Order{Backend: backend, Do: do, Insist: true}
}
