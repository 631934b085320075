// Command plain is the baseline of the benchmark: a pass-through on the standard
// library's server and client with nothing switched on.
package main

import (
	"io"
	"net/http"
	"os"
	"sync/atomic"
)

func main() {
	backends := os.Args[2:]
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
	if err := http.ListenAndServe(os.Args[1], http.HandlerFunc(pass)); err != nil {
		os.Exit(1)
	}
}
