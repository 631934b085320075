package names

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// server answers for a zone over UDP and TCP at an address of loopback.
func server(t *testing.T, host string, port int, answer func(q *dns.Msg, tcp bool) *dns.Msg) int {
	var err error
	var udp net.PacketConn
	var tcp net.Listener
	for range 20 { // one port for both
		udp, err = net.ListenPacket("udp", fmt.Sprintf("%s:%d", host, port))
		require.NoError(t, err)
		at := udp.LocalAddr().(*net.UDPAddr).Port
		if tcp, err = net.Listen("tcp", fmt.Sprintf("%s:%d", host, at)); err == nil {
			port = at
			break
		}
		udp.Close()
	}
	require.NoError(t, err)
	handle := func(over bool) dns.HandlerFunc {
		return func(w dns.ResponseWriter, q *dns.Msg) { _ = w.WriteMsg(answer(q, over)) }
	}
	for _, s := range []*dns.Server{{PacketConn: udp, Handler: handle(false)}, {Listener: tcp, Handler: handle(true)}} {
		go func() { _ = s.ActivateAndServe() }()
		t.Cleanup(func() { _ = s.Shutdown() })
	}
	return port
}

func TestNamesAreLookedUpWithTheirTime(t *testing.T) {
	records := map[string][]string{
		"birds.tern.example.":            {"birds.tern.example. 30 IN A 192.0.2.1", "birds.tern.example. 20 IN AAAA 2001:db8::1"},
		"alias.tern.example.":            {"alias.tern.example. 7 IN CNAME birds.tern.example.", "birds.tern.example. 30 IN A 192.0.2.1"},
		"none.tern.example.":             {"none.tern.example. 7 IN CNAME gone.tern.example."},
		"zero.tern.example.":             {"zero.tern.example. 0 IN A 192.0.2.2"},
		"_http._tcp.birds.tern.example.": {"_http._tcp.birds.tern.example. 15 IN SRV 10 60 8080 auk.tern.example.", "_http._tcp.birds.tern.example. 15 IN SRV 20 0 8081 knot.tern.example."},
		"_off._tcp.birds.tern.example.":  {"_off._tcp.birds.tern.example. 15 IN SRV 0 0 0 ."},
	}
	var broken atomic.Bool
	zone := func(q *dns.Msg, tcp bool) *dns.Msg {
		m := new(dns.Msg).SetReply(q)
		name, kind := q.Question[0].Name, q.Question[0].Qtype
		if broken.Load() && kind == dns.TypeAAAA {
			m.Rcode = dns.RcodeServerFailure
			return m
		}
		if name == "many.tern.example." && kind == dns.TypeA {
			if !tcp {
				m.Truncated = true
				return m
			}
			for i := range 200 {
				rr, _ := dns.NewRR(fmt.Sprintf("many.tern.example. 5 IN A 192.0.2.%d", i+1))
				m.Answer = append(m.Answer, rr)
			}
			return m
		}
		all, ok := records[name]
		if !ok && name != "many.tern.example." {
			m.Rcode = dns.RcodeNameError
			return m
		}
		for _, text := range all {
			rr, err := dns.NewRR(text)
			assert.NoError(t, err)
			if rr.Header().Rrtype == kind || rr.Header().Rrtype == dns.TypeCNAME {
				m.Answer = append(m.Answer, rr)
			}
		}
		return m
	}
	refusing := func(q *dns.Msg, _ bool) *dns.Msg { return new(dns.Msg).SetRcode(q, dns.RcodeRefused) }
	port := server(t, "127.0.0.1", 0, refusing)
	server(t, "127.0.0.2", port, zone)
	conf := filepath.Join(t.TempDir(), "resolv.conf")
	require.NoError(t, os.WriteFile(conf, []byte("nameserver 127.0.0.1\nnameserver 127.0.0.2\nsearch tern.example\noptions timeout:1 attempts:1\n"), 0o600))
	asked := 0
	s := System{Conf: conf, Port: fmt.Sprint(port), Other: func(context.Context, string) ([]netip.Addr, error) {
		asked++
		return nil, errors.New("nobody knows it")
	}}
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Second)
	defer cancel()
	for host, want := range map[string]string{
		"birds.tern.example": "[192.0.2.1 2001:db8::1] 20s", "birds": "[192.0.2.1 2001:db8::1] 20s", "alias.tern.example": "[192.0.2.1] 7s", "zero.tern.example": "[192.0.2.2] 1ns",
	} {
		a, err := s.Addresses(ctx, host)
		require.NoError(t, err, host)
		assert.Equal(t, want, fmt.Sprint(a.All, " ", a.TTL), host)
	}
	many, err := s.Addresses(ctx, "many.tern.example")
	require.NoError(t, err)
	assert.Len(t, many.All, 200, "over TCP, where an answer is cut")
	local, err := s.Addresses(ctx, "localhost")
	require.NoError(t, err)
	assert.Equal(t, time.Duration(0), local.TTL, "of the hosts file, which has none")
	assert.Zero(t, asked)
	for _, host := range []string{"gone.tern.example", "none.tern.example"} {
		_, err := s.Addresses(ctx, host)
		assert.ErrorContains(t, err, "nobody knows it", host)
	}
	services, err := s.Services(ctx, "_http._tcp.birds.tern.example")
	require.NoError(t, err)
	assert.Equal(t, Services{All: []Service{{"auk.tern.example", 8080, 10, 60}, {"knot.tern.example", 8081, 20, 0}}, TTL: 15 * time.Second}, services)
	off, err := s.Services(ctx, "_off._tcp.birds.tern.example")
	require.NoError(t, err)
	assert.Empty(t, off.All)
	_, err = s.Services(ctx, "_http._tcp.gone.tern.example")
	assert.ErrorContains(t, err, "no such host")
	broken.Store(true)
	asked = 0
	_, err = s.Addresses(ctx, "birds.tern.example")
	assert.Error(t, err)
	assert.Equal(t, 1, asked, "half of the addresses is no answer")
	s.Conf = conf + ".gone"
	_, err = s.Services(ctx, "_http._tcp.birds.tern.example")
	assert.Error(t, err)
}
