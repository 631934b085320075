package cli

import (
	"crypto/tls"
	"encoding/pem"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/letsencrypt/pebble/v2/ca"
	"github.com/letsencrypt/pebble/v2/db"
	"github.com/letsencrypt/pebble/v2/va"
	"github.com/letsencrypt/pebble/v2/wfe"
	"github.com/miekg/dns"
	"github.com/rogpeppe/go-internal/testscript"
)

// certify PORT TLSPORT HTTPPORT SECONDS [HOW] begins a server of ACME. Its certificates are valid for so many
// seconds, and it reaches challenges at the two ports. The names tern.example and below are on
// this machine, but for those of gone.example, which are nowhere. It writes directory.pem, the
// authority of its own certificate, and root.pem, that of those it issues. With HOW bound it wants
// an external account, with hang it answers nothing, and with full it issues nothing for a while.
func certify(ts *testscript.TestScript, neg bool, args []string) {
	number := func(i int) int {
		n, err := strconv.Atoi(args[i])
		ts.Check(err)
		return n
	}
	how := strings.Join(args[4:], "")
	ts.Setenv("PEBBLE_VA_NOSLEEP", "1")
	ts.Check(os.Setenv("PEBBLE_VA_NOSLEEP", "1"))
	quiet := log.New(io.Discard, "", 0)
	store := db.NewMemoryStore()
	if how == "bound" {
		ts.Check(store.AddExternalAccountKeyByID("harbour-7", "aGFyYm91ci1rZXktb2YtdGhlLXRlcm4tbGluZS0wMDAx"))
	}
	authority := ca.New(quiet, store, "", "ecdsa", 0, 1, map[string]ca.Profile{"default": {ValidityPeriod: uint64(number(3))}})
	validator := va.New(quiet, number(2), number(1), false, namesHere(ts), store)
	front := wfe.New(quiet, store, validator, authority, nil, false, how == "bound", 1, 1)
	handler := front.Handler()
	var one sync.Mutex // the server changes an account that it is answering with elsewhere
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case how == "hang":
			<-r.Context().Done()
		case how == "full" && r.URL.Path == "/order-plz":
			w.Header().Set("Content-Type", "application/problem+json")
			w.WriteHeader(http.StatusForbidden)
			fmt.Fprint(w, `{"type": "urn:ietf:params:acme:error:rateLimited", "detail": "too many certificates\n(5) already issued", "status": 403}`)
		default:
			one.Lock()
			defer one.Unlock()
			handler.ServeHTTP(w, r)
		}
	}))
	server.Listener.Close()
	l, err := net.Listen("tcp", "127.0.0.1:"+args[0])
	ts.Check(err)
	server.Listener = l
	server.Config.ErrorLog = quiet
	server.StartTLS()
	certifiers.Store(args[0], server)
	ts.Defer(func() { server.CloseClientConnections(); server.Close() })
	ts.Check(os.WriteFile(ts.MkAbs("directory.pem"), pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}), 0o644))
	ts.Check(os.WriteFile(ts.MkAbs("root.pem"), authority.GetRootCert(0).PEM(), 0o644))
}

var certifiers sync.Map // of scripts that run side by side; ports are their own

// uncertify PORT ends such a server.
func uncertify(ts *testscript.TestScript, neg bool, args []string) {
	server, ok := certifiers.LoadAndDelete(args[0])
	if !ok {
		ts.Fatalf("no server of ACME at %s", args[0])
	}
	server.(*httptest.Server).CloseClientConnections()
	server.(*httptest.Server).Close()
}

// namesHere serves DNS for certify, and returns the address.
func namesHere(ts *testscript.TestScript) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	ts.Check(err)
	s := &dns.Server{Listener: l, Handler: dns.HandlerFunc(func(w dns.ResponseWriter, q *dns.Msg) {
		a := new(dns.Msg).SetReply(q)
		if x := q.Question[0]; !strings.Contains(x.Name, "gone.") && x.Qtype == dns.TypeA {
			a.Answer = []dns.RR{&dns.A{Hdr: dns.RR_Header{Name: x.Name, Rrtype: dns.TypeA, Class: dns.ClassINET, Ttl: 1}, A: net.IPv4(127, 0, 0, 1)}}
		}
		_ = w.WriteMsg(a)
	})}
	go func() { _ = s.ActivateAndServe() }()
	ts.Defer(func() { _ = s.Shutdown() })
	return l.Addr().String()
}

// awaitExpired is await-expired FILE: it waits until the certificate in a file is not valid any more.
func awaitExpired(ts *testscript.TestScript, neg bool, args []string) {
	text := []byte(ts.ReadFile(args[0]))
	pair, err := tls.X509KeyPair(text, text)
	ts.Check(err)
	time.Sleep(time.Until(pair.Leaf.NotAfter.Add(time.Second)))
}
