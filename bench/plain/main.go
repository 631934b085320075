// Command plain is the baseline of the benchmark: a pass-through on the standard
// library's server and client with nothing switched on. It listens on an address in clear
// text and on one with TLS, and takes HTTP/2 on both, as the library does.
//
//	plain CLEAR SECURE CERTIFICATE KEY BACKEND...
package main

import (
	"io"
	"net/http"
	"os"
	"sync/atomic"
)

func main() {
	backends := os.Args[5:]
	transport := &http.Transport{MaxIdleConnsPerHost: 256, DisableCompression: true}
	var next atomic.Uint64
	pass := func(w http.ResponseWriter, r *http.Request) {
		out := r.Clone(r.Context())
		out.URL.Scheme, out.URL.Host = "http", backends[next.Add(1)%uint64(len(backends))]
		out.RequestURI = ""
		res, err := transport.RoundTrip(out)
		if err != nil {
			http.Error(w, "bad gateway", http.StatusBadGateway)
			return
		}
		defer res.Body.Close()
		for name, values := range res.Header {
			w.Header()[name] = values
		}
		w.WriteHeader(res.StatusCode)
		_, _ = io.Copy(w, res.Body) // a client that left
	}
	speaks := new(http.Protocols)
	speaks.SetHTTP1(true)
	speaks.SetHTTP2(true)
	speaks.SetUnencryptedHTTP2(true)
	go func() {
		secure := &http.Server{Addr: os.Args[2], Handler: http.HandlerFunc(pass), Protocols: speaks}
		if err := secure.ListenAndServeTLS(os.Args[3], os.Args[4]); err != nil {
			os.Exit(1)
		}
	}()
	clear := &http.Server{Addr: os.Args[1], Handler: http.HandlerFunc(pass), Protocols: speaks}
	if err := clear.ListenAndServe(); err != nil {
		os.Exit(1)
	}
}
