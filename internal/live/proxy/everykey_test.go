package proxy

import (
	"context"
	"crypto/tls"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
)

// heldBy names, for every key of the language, the test that fails when the
// live proxy ignores it: of this package or of the commands, or a script of theirs.
var heldBy = map[string]string{
	"zone": "TestKeysThatDecide", "trusted_proxies": "TestWhoTheClientIsComesFromTrustedProxiesOnly", "client_from": "TestForwardedIsBelievedWhereThatIsSaid", "record": "upkeep.txtar", "stop_notice": "upkeep.txtar",
	"proxy_name": "TestRequestsAreKnownByAnID", "request_id_field": "TestRequestsAreKnownByAnID", "mask_query": "TestRequestsAreKnownByAnID",
	"frontend.listen": "TestRequestsAreSpreadAndLogged", "frontend.protocol": "TestTCPIsCarriedBothWaysToItsEnd", "frontend.proxy_protocol": "TestPROXYProtocolInAndOut",
	"frontend.clear_http2": "TestHTTP2OnBothSides", "frontend.without": "TestKeysThatDecide", "frontend.tls.certificate": "TestTLSInFront", "frontend.tls.key": "TestTLSInFront",
	"frontend.tls.min_version": "TestTLSInFront", "frontend.tls.alpn": "TestTLSInFront", "frontend.tls.client_ca": "TestTLSInFront", "frontend.tls.client_certificate": "TestClientCertificatesAskedForAndControlOverTLS",
	"frontend.timeouts.request_header": "TestASlowRequestIsNotWaitedFor", "frontend.timeouts.request_body": "TestSlowBodiesHoldNoBackend", "frontend.timeouts.idle": "TestASlowRequestIsNotWaitedFor",
	"frontend.limits.header_size": "TestWhatCanBeReadInTwoWaysIsRefused", "frontend.limits.connections": "TestLimitsOfAFrontend", "frontend.limits.body_size": "TestLimitsOfAFrontend",
	"frontend.limits.rate": "TestLimitsOfAFrontend", "frontend.limits.burst": "TestLimitsOfAFrontend", "frontend.errors.form": "TestErrorsInTheFormThatIsWanted", "frontend.errors.pages": "TestErrorsInTheFormThatIsWanted",
	"frontend.route.send_to": "TestRoutesByQueryCookieAndHeader", "frontend.route.redirect.to": "TestRedirectsAndReplies", "frontend.route.redirect.status": "TestRedirectsAndReplies",
	"frontend.route.reply.status": "TestRedirectsAndReplies", "frontend.route.reply.body": "TestRedirectsAndReplies", "frontend.route.reply.content_type": "TestRedirectsAndReplies",
	"frontend.route.rewrite.drop_prefix": "TestPathsHostsAndFieldsAreRewrittenAndMappedBack", "frontend.route.rewrite.prepend": "TestPathsHostsAndFieldsAreRewrittenAndMappedBack",
	"frontend.route.rewrite.substitute": "TestARouteChangesWhatItSays", "frontend.route.rewrite.map_back": "TestAnApplicationBehindAPrefix", "frontend.route.rewrite.bare_prefix": "TestAnApplicationBehindAPrefix", "frontend.route.rewrite.host": "TestPathsHostsAndFieldsAreRewrittenAndMappedBack",
	"frontend.route.headers.request.set": "TestPathsHostsAndFieldsAreRewrittenAndMappedBack", "frontend.route.headers.request.add": "TestARouteChangesWhatItSays",
	"frontend.route.headers.request.remove": "TestPathsHostsAndFieldsAreRewrittenAndMappedBack", "frontend.route.headers.request.clients": "TestARouteChangesWhatItSays",
	"frontend.route.headers.answer.set": "TestARouteChangesWhatItSays", "frontend.route.headers.answer.add": "TestRoutesByClient", "frontend.route.headers.answer.remove": "TestPathsHostsAndFieldsAreRewrittenAndMappedBack",
	"frontend.route.headers.answer.clients": "TestARouteChangesWhatItSays",
	"frontend.route.timeouts.answer":        "TestTimesOfARouteAndOfStreams", "frontend.route.timeouts.idle": "TestTimesOfARouteAndOfStreams", "frontend.route.timeouts.stream": "TestTimesOfARouteAndOfStreams",
	"frontend.route.limits.body_size": "TestLimitsHoldClientsBack", "frontend.route.limits.rate": "TestLimitsHoldClientsBack", "frontend.route.limits.burst": "TestLimitsHoldClientsBack",
	"frontend.route.when.host": "TestKeysThatDecide", "frontend.route.when.path": "TestNoRouteAndNoBackend", "frontend.route.when.method": "TestKeysThatDecide", "frontend.route.when.client": "TestRoutesByClient",
	"frontend.route.when.any.host": "TestRoutesByAnyBlocks", "frontend.route.when.any.path": "TestRoutesByAnyBlocks", "frontend.route.when.any.method": "TestRoutesByAnyBlocks", "frontend.route.when.any.client": "TestRoutesByAnyBlocks",
	"frontend.route.when.any.header": "TestRoutesByAnyBlocks", "frontend.route.when.any.query": "TestRoutesByAnyBlocks", "frontend.route.when.any.sni": "TestRoutesByAnyBlocks", "frontend.route.when.any.cookie": "TestRoutesByAnyBlocks",
	"frontend.route.when.header": "TestRoutesByQueryCookieAndHeader", "frontend.route.when.query": "TestRoutesByQueryCookieAndHeader", "frontend.route.when.cookie": "TestRoutesByQueryCookieAndHeader", "frontend.route.when.sni": "TestKeysThatDecide",
	"upstream.algorithm": "TestKeysThatDecide", "upstream.backends": "TestRequestsAreSpreadAndLogged", "upstream.backends.address": "TestTheQueueLetsRequestsWait",
	"upstream.backends.tier": "TestServeAndReplayTakeTheSameDecisions", "upstream.backends.zone": "TestKeysThatDecide", "upstream.backends.weight": "TestErrorsInTheFormThatIsWanted", "upstream.backends.max_in_flight": "TestTheQueueLetsRequestsWait",
	"upstream.slow_start": "TestKeysThatDecide", "upstream.proxy_protocol": "TestPROXYProtocolInAndOut", "upstream.http_version": "TestHTTP2OnBothSides", "upstream.when_all_down": "TestKeysThatDecide", "upstream.on_down": "TestWhatIsOpenWithABackendThatGoes", "upstream.connect_from": "TestBackendsAreConnectedToFromAnAddress",
	"upstream.resolve": "TestEachAddressOfANameIsABackend", "upstream.resolve_every": "TestEachAddressOfANameIsABackend", "upstream.without": "TestKeysThatDecide",
	"upstream.tls.verify": "TestTLSWithBackends", "upstream.tls.name": "TestTLSWithBackends", "upstream.tls.ca": "TestTLSWithBackends", "upstream.tls.certificate": "TestTLSWithBackends", "upstream.tls.key": "TestTLSWithBackends", "upstream.tls.min_version": "TestTLSWithBackends",
	"upstream.probe.path": "TestKeysThatDecide", "upstream.probe.method": "TestWhatAProbeAsksWith", "upstream.probe.host": "TestWhatAProbeAsksWith", "upstream.probe.headers": "TestWhatAProbeAsksWith", "upstream.probe.port": "TestABackendReportsOnItself", "upstream.probe.expect": "TestWhatAProbeExpects", "upstream.probe.expect.status": "TestWhatAProbeExpects", "upstream.probe.expect.body": "TestWhatAProbeExpects",
	"upstream.probe.every": "TestKeysThatDecide", "upstream.probe.every_while_down": "TestKeysThatDecide", "upstream.probe.jitter": "TestKeysThatDecide", "upstream.probe.timeout": "TestProbesDoWhatTheReplayForetells",
	"upstream.probe.send": "TestKindsOfProbes", "upstream.probe.name": "TestKindsOfProbes", "upstream.probe.verify": "TestKindsOfProbes", "upstream.probe.service": "TestKindsOfProbes",
	"upstream.probe.down_after": "TestThresholdsOfProbes", "upstream.probe.up_after": "TestThresholdsOfProbes",
	"upstream.suspend.after": "TestKeysThatDecide", "upstream.suspend.rest": "TestKeysThatDecide", "upstream.suspend.growth": "TestKeysThatDecide", "upstream.suspend.longest": "TestKeysThatDecide", "upstream.suspend.keep": "TestKeysThatDecide", "upstream.suspend.on": "TestKeysThatDecide", "upstream.suspend.silent_after": "TestKeysThatDecide",
	"upstream.sticky.by": "TestSeatsWithoutACookieOfOurs", "upstream.sticky.name": "TestACookieKeepsItsBackend", "upstream.sticky.ttl": "TestACookieKeepsItsBackend", "upstream.sticky.on_loss": "TestKeysThatDecide", "upstream.sticky.secret": "TestACookieKeepsItsBackend",
	"upstream.retry.attempts": "TestRetriesSendTheBodyAgain", "upstream.retry.on": "TestRetriesOnWhatIsListed", "upstream.retry.budget": "TestABudgetThatOthersUseUp",
	"upstream.hash.key": "TestKeysThatDecide", "upstream.hash.name": "TestTheBoundOfAHash", "upstream.hash.method": "TestKeysThatDecide", "upstream.hash.bound": "TestTheBoundOfAHash",
	"upstream.failover.prefer": "TestKeysThatDecide", "upstream.failover.spill_below": "TestWhenTheNextTierIsAsked", "upstream.failover.spill_at": "TestTheNextTierIsAskedByLoad", "upstream.queue.limit": "TestTheQueueLetsRequestsWait", "upstream.queue.timeout": "TestTheQueueLetsRequestsWait",
	"upstream.timeouts.connect": "TestConnectionsHaveTheirTime", "upstream.timeouts.connection_age": "TestConnectionsGrowOld", "upstream.backends_from": "backends.txtar", "upstream.resolve_floor": "TestNamesAreFollowedForTheirTime", "upstream.timeouts.kept": "TestConnectionsToBackendsAreKeptForTheirTime", "upstream.timeouts.answer": "TestWhatFailsIsAnsweredByItsCause",
	"upstream.timeouts.idle": "TestAConnectionBecomesWhatBothWant", "upstream.timeouts.stream": "TestTCPIsCarriedBothWaysToItsEnd",
	"control.listen": "TestControlIsClosedToStrangers", "event_log.format": "events.txtar", "event_log.syslog": "events.txtar", "event_log.file": "events.txtar", "event_log.size": "events.txtar", "control.slow_requests": "TestRequestsThatFailedOrWereSlowAreKept", "control.backend_histograms": "TestHistogramsOfBackendsCanBeTurnedOff", "control.orders_file": "orders.txtar", "control.tls.certificate": "TestClientCertificatesAskedForAndControlOverTLS", "control.tls.key": "TestClientCertificatesAskedForAndControlOverTLS", "control.tls.min_version": "TestClientCertificatesAskedForAndControlOverTLS",
	"control.user.password": "TestControlIsClosedToStrangers", "control.user.role": "TestControlIsClosedToStrangers",
	"frontend.pass_fields": "TestFieldsOfTheProxyAreItsOwn", "frontend.timeouts.half_closed": "TestAClientThatEndsItsDirection", "frontend.limits.body_rate": "TestBodiesHaveALeastRate", "frontend.limits.stalled_streams": "TestStreamsThatWaitForTheirClient",
	"frontend.route.stream_requests": "TestTrailersInterimAnswersAndHeldBackBodies", "upstream.sticky.pass_cookie": "TestFieldsOfTheProxyAreItsOwn", "limits.connections_total": "TestConnectionsInAllAreBounded",
	"access_log.to": "upkeep.txtar", "access_log.format": "upkeep.txtar", "access_log.fields": "secure.txtar", "access_log.client_left_status": "upkeep.txtar",
	"access_log.line": "logs.txtar", "access_log.share": "logs.txtar", "access_log.when.route": "logs.txtar", "access_log.when.status": "logs.txtar", "access_log.when.cause": "logs.txtar", "access_log.when.at_least": "logs.txtar", "frontend.access_log.to": "logs.txtar", "frontend.access_log.format": "logs.txtar", "frontend.access_log.fields": "logs.txtar", "frontend.access_log.line": "logs.txtar", "frontend.access_log.client_left_status": "logs.txtar", "frontend.access_log.share": "logs.txtar", "frontend.access_log.when.route": "logs.txtar", "frontend.access_log.when.status": "logs.txtar", "frontend.access_log.when.cause": "logs.txtar", "frontend.access_log.when.at_least": "logs.txtar",
	"frontend.tls.acme.names": "acme.txtar", "frontend.tls.acme.directory": "acme.txtar", "frontend.tls.acme.storage": "acme.txtar", "frontend.tls.acme.contact": "acme.txtar", "frontend.tls.acme.terms_agreed": "acme.txtar", "frontend.tls.acme.directory_ca": "acme.txtar", "frontend.tls.acme.account_id": "acme.txtar", "frontend.tls.acme.account_key": "acme.txtar",
	"tracing.endpoint": "tracing.txtar", "tracing.share": "tracing.txtar", "tracing.sampled_by": "tracing.txtar", "tracing.service": "tracing.txtar",
	"syslog.facility": "TestAccessLinesAreSentToALogServer", "syslog.transport": "TestAccessLinesAreSentToALogServer", "syslog.address": "TestAccessLinesAreSentToALogServer", "syslog.format": "TestAccessLinesAreSentToALogServer",
}

// TestEveryKeyIsHeldLive walks the language: a key that is new needs a test that
// holds the proxy to it, and a test that is named has to be there and to give it.
func TestEveryKeyIsHeldLive(t *testing.T) {
	sources := map[string]string{}
	for _, pattern := range []string{"*_test.go", "../../cli/*_test.go", "../../cli/testdata/script/*.txtar"} {
		names, err := filepath.Glob(pattern)
		require.NoError(t, err)
		for _, name := range names {
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			sources[filepath.Base(name)] = string(text)
			for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllStringSubmatch(string(text), -1) {
				sources[m[1]] = string(text)
			}
		}
	}
	seen := 0
	var walk func(b *config.Block, at string)
	walk = func(b *config.Block, at string) {
		for _, k := range b.Keys {
			seen++
			by := heldBy[at+k.Name]
			if assert.NotEmpty(t, by, "%s is held by no test", at+k.Name) {
				assert.True(t, regexp.MustCompile(k.Name+`\W{0,2}\s*=`).MatchString(sources[by]), "%s is said to be held by %s", at+k.Name, by)
			}
			if k.Fields != nil {
				walk(k.Fields, at+k.Name+".")
			}
		}
		for _, c := range b.Blocks {
			if !c.Free && c.Name != "common" { // values of one's own, and what is made of the others
				walk(c, at+c.Name+".")
			}
		}
	}
	walk(config.Language, "")
	assert.Len(t, heldBy, seen, "what is no key any more is not held")
}

// TestKeysThatDecide holds keys to the difference they make: each is seen with
// one value and with another.
func TestKeysThatDecide(t *testing.T) {
	two := func(more string) string {
		return front + "upstream \"app\" {\n backends = {\n a = \"192.0.2.1:80\"\n b = \"192.0.2.2:80\"\n }\n" + more + "\n}\n"
	}
	zoned := func(zone string) string {
		return "zone = \"" + zone + "\"\n" + strings.NewReplacer("\"192.0.2.1:80\"", "{ address = \"192.0.2.1:80\", zone = \"north\" }", "\"192.0.2.2:80\"", "{ address = \"192.0.2.2:80\", zone = \"south\" }").Replace(two("failover {\n prefer = \"zone\"\n}"))
	}
	who := func(w *world, n int, path string) string { // answers, a letter each
		var out strings.Builder
		for i := range n {
			status, body := w.get(base + fmt.Sprintf(path, i))
			switch {
			case status != 200:
				out.WriteByte('-')
			case strings.HasSuffix(body, ".1:80"):
				out.WriteByte('a')
			default:
				out.WriteByte('b')
			}
		}
		return out.String()
	}
	sick := func(w *world) { // answers 503 to all but probes
		w.kill(here)
		w.start(here, func(out http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/ready" {
				out.WriteHeader(http.StatusServiceUnavailable)
			}
		})
	}
	probes := func(w *world) string {
		w.kill(here)
		w.mu.Lock()
		w.probes = nil // the first one, of the start
		w.mu.Unlock()
		time.Sleep(20 * time.Second)
		synctest.Wait()
		w.mu.Lock()
		defer w.mu.Unlock()
		apart := map[time.Duration]bool{}
		for i := 1; i < len(w.probes); i++ {
			apart[w.probes[i].Sub(w.probes[i-1]).Round(time.Millisecond)] = true
		}
		return fmt.Sprint(len(w.probes), " ", len(apart) > 2)
	}
	suspend := func(more string) string {
		return "retry {\n}\nsuspend {\n after = 2\n rest = \"2s\"\n longest = \"5s\"\n on = [\"503\"]\n " + more + "\n}"
	}
	suspended := func(w *world) string {
		sick(w)
		for range 300 {
			w.get(base + "/")
			time.Sleep(90 * time.Millisecond) // no rest ends when a request begins
		}
		var rests []string // their lengths, in seconds
		for i, e := range w.news("app.a") {
			if i > 0 && len(rests) < 4 { // the request on trial fails, and another begins
				rests = append(rests, fmt.Sprintf("%.0f", e.At.Sub(w.news("app.a")[i-1].At).Seconds()))
			}
		}
		return strings.Join(rests, " ")
	}
	lost := func(w *world) string {
		first := who(w, 1, "/%d")
		at := map[string]string{"a": here, "b": "192.0.2.2:80"}[first]
		w.kill(at)
		time.Sleep(5 * time.Second)
		return strings.NewReplacer(first, "same", "a", "other", "b", "other").Replace(who(w, 1, "/%d"))
	}
	const probe = "probe \"http\" {\n path = \"/ready\"\n every = \"1s\"\n"
	for _, c := range []struct {
		key  string
		see  func(w *world) string
		with map[string]string // configuration to what is seen
	}{
		{"zone, zone of a backend, prefer", func(w *world) string { return who(w, 4, "/%d") }, map[string]string{
			zoned("north"): "aaaa", zoned("south"): "bbbb", two("failover {\n prefer = \"none\"\n}"): "abab",
		}},
		{"method", func(w *world) string { return who(w, 2, "/%d") }, map[string]string{
			strings.Replace(two(""), "send_to", "when {\n method = \"POST\"\n }\nsend_to", 1): "--", strings.Replace(two(""), "send_to", "when {\n method = \"GET\"\n }\nsend_to", 1): "ab",
		}},
		{"host", func(w *world) string { return who(w, 2, "/%d") }, map[string]string{
			strings.Replace(two(""), "send_to", "when {\n host = \"a.example\"\n }\nsend_to", 1): "--", strings.Replace(two(""), "send_to", "when {\n host = \"127.0.0.1\"\n }\nsend_to", 1): "ab",
		}},
		{"without", func(w *world) string { w.kill(here); return who(w, 4, "/%d") }, map[string]string{
			"common {\n upstream {\n  retry {\n  }\n }\n}\n" + two("without = [\"retry\"]"): "-b-b", "common {\n upstream {\n  retry {\n  }\n }\n}\n" + two(""): "bbbb",
			"common {\n frontend {\n  limits {\n   rate = \"1/s\"\n   burst = 1\n  }\n }\n}\n" + in("without = [\"limits\"]", two("")): "-b-b",
			"common {\n frontend {\n  limits {\n   rate = \"1/s\"\n   burst = 1\n  }\n }\n}\n" + two(""):                               "----",
		}},
		{"slow_start", func(w *world) string {
			w.kill(here)
			time.Sleep(5 * time.Second)
			w.start(here, nil)
			for range 6000 {
				if time.Sleep(10 * time.Millisecond); w.proxy.Status().Upstreams[0].Backends[0].State == "up" {
					break
				}
			}
			return fmt.Sprint(strings.Count(who(w, 20, "/%d"), "a") < 5)
		}, map[string]string{two("slow_start = \"1m\"\n" + probe + "}"): "true", two(probe + "}"): "false"}},
		{"path of a probe", func(w *world) string {
			sick(w)
			time.Sleep(4 * time.Second)
			return w.proxy.Status().Upstreams[0].Backends[0].State
		}, map[string]string{two(probe + "}"): "up", two("probe \"http\" {\n path = \"/\"\n every = \"1s\"\n}"): "down"}},
		{"every_while_down", probes, map[string]string{two(probe + "every_while_down = \"4s\"\n}"): "6 false", two(probe + "}"): "20 false"}},
		{"jitter", probes, map[string]string{two(probe + "jitter = \"50%\"\n}"): "20 true", two(probe + "jitter = \"0%\"\n}"): "20 false"}},
		{"growth, longest", suspended, map[string]string{
			two(suspend("growth = 2")): "2 4 5 5",
			two(suspend("growth = 1")): "2 2 2 2",
		}},
		{"keep, on, after", suspended, map[string]string{
			two(suspend("keep = \"100%\"")): "", two("suspend {\n on = [\"timeout\"]\n}"): "", two("retry {\n}\nsuspend {\n after = 1000\n on = [\"503\"]\n}"): "",
		}},
		{"silent_after", func(w *world) string {
			w.net.hang(here, true)
			for i := range 8 {
				ctx, leaves := context.WithTimeout(w.t.Context(), 500*time.Millisecond)
				r, err := http.NewRequestWithContext(ctx, http.MethodGet, fmt.Sprintf("%s/%d", base, i), nil)
				require.NoError(w.t, err)
				if res, err := w.client.Do(r); err == nil {
					res.Body.Close()
				}
				leaves()
				time.Sleep(500 * time.Millisecond)
			}
			b := w.proxy.Status().Upstreams[0].Backends[0]
			w.net.hang(here, false)
			return fmt.Sprint(b.State, " ", b.ClientLeft > 1)
		}, map[string]string{two("suspend {\n after = 2\n silent_after = \"2s\"\n}"): "suspended true", two("suspend {\n after = 2\n silent_after = \"0s\"\n}"): "up true"}},
		{"on_loss", lost, map[string]string{
			two(probe + "}\nsticky {\n by = \"address\"\n on_loss = \"refuse\"\n}"): "-", two(probe + "}\nsticky {\n by = \"address\"\n on_loss = \"move\"\n}"): "other",
		}},
		{"when_all_down", func(w *world) string {
			for i, a := range addresses()[:2] {
				w.kill(a)
				time.Sleep(time.Duration(3+i) * time.Second)
			}
			w.start(here, nil)
			return fmt.Sprint(strings.Contains(who(w, 4, "/%d"), "a"))
		}, map[string]string{two(probe + "up_after = 50\n}\nwhen_all_down = \"try-anyway\""): "true", two(probe + "up_after = 50\n}"): "false"}},
	} {
		for text, want := range c.with {
			bubble(t, "", func(w *world) {
				for _, a := range addresses()[:2] {
					w.start(a, nil)
				}
				require.NoError(t, w.proxy.Apply(parse(t, text)))
				time.Sleep(time.Millisecond) // until they listen, and the first probes have ended
				assert.Equal(t, want, c.see(w), "%s\n%s", c.key, text)
			})
		}
	}
	// The ways to hash agree on nothing but being ways to hash.
	ways := map[string]string{}
	for _, how := range []string{"key = \"path\"\n method = \"ring\"", "key = \"path\"\n method = \"rendezvous\"", "key = \"path\"\n method = \"modulo\"", "key = \"client\"\n method = \"ring\""} {
		bubble(t, two("algorithm = \"hash\"\nhash {\n "+how+"\n}"), func(w *world) {
			for _, a := range addresses()[:2] {
				w.start(a, nil)
			}
			ways[how] = who(w, 40, "/seats/%d")
		})
	}
	assert.Len(t, slices.Compact(slices.Sorted(func(yield func(string) bool) {
		for _, v := range ways {
			yield(v)
		}
	})), 4, "%v", ways)
	// The name of a TLS handshake picks a route of http too.
	has := files(t, "a.example", "b.example")
	secure := in("tls {\n certificate = [\"a.example.pem\", \"b.example.pem\"]\n key = [\"a.example.key\", \"b.example.key\"]\n}", strings.Replace(front, "send_to", "when {\n sni = \"b.example\"\n}\nsend_to", 1)) + one
	synctest.Test(t, func(t *testing.T) {
		w := withFiles(t, has, secure)
		defer w.close()
		w.start(here, nil)
		for name, status := range map[string]int{"a.example": 404, "b.example": 200} {
			tr := &http.Transport{DialContext: w.net.dial, TLSClientConfig: &tls.Config{ServerName: name, InsecureSkipVerify: true}}
			res, err := (&http.Client{Transport: tr}).Get("https://127.0.0.1:8080/")
			require.NoError(t, err)
			res.Body.Close()
			assert.Equal(t, status, res.StatusCode, name)
			tr.CloseIdleConnections()
		}
	})
}
