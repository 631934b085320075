package main

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// load is what one kind of client asks for, over and over.
type load struct {
	connections int
	path        string
	close       bool // a connection for each request
	tls         bool
	http2       bool
	events      bool // a stream of events on each connection, instead of answers
}

// result is what came of a load.
type result struct {
	rate     float64       // requests a second
	p50, p99 time.Duration // latency
	bytes    float64       // received a second
	failed   int
}

// run asks an address for a time.
func (l load) run(address string, d time.Duration) (result, error) {
	var mu sync.Mutex
	var all []time.Duration
	var r result
	var first error
	total := int64(0)
	end := time.Now().Add(d)
	began := time.Now()
	var wg sync.WaitGroup
	for range l.connections {
		wg.Go(func() {
			took, n, err := l.client(address, end)
			mu.Lock()
			defer mu.Unlock()
			all = append(all, took...)
			total += n
			if err != nil {
				r.failed++
				first = err
			}
		})
	}
	wg.Wait()
	if len(all) == 0 {
		return r, fmt.Errorf("nothing was answered: %w", first)
	}
	secs := time.Since(began).Seconds()
	slices.Sort(all)
	r.rate, r.bytes = float64(len(all))/secs, float64(total)/secs
	r.p50, r.p99 = all[len(all)/2], all[len(all)*99/100]
	return r, nil
}

// client is one connection's worth of asking.
func (l load) client(address string, end time.Time) ([]time.Duration, int64, error) {
	if l.http2 {
		return l.clientHTTP2(address, end)
	}
	if l.events {
		return l.clientEvents(address, end)
	}
	var took []time.Duration
	var c net.Conn
	var br *bufio.Reader
	total := int64(0)
	request := "GET " + l.path + " HTTP/1.1\r\nHost: tickets.tern.example\r\nUser-Agent: load\r\nAccept: */*\r\n"
	if l.close {
		request += "Connection: close\r\n"
	}
	head := []byte(request + "\r\n")
	defer func() {
		if c != nil {
			c.Close()
		}
	}()
	for {
		began := time.Now()
		if began.After(end) {
			return took, total, nil
		}
		if c == nil {
			var err error
			if c, err = l.dial(address); err != nil {
				return took, total, err
			}
			br = bufio.NewReaderSize(c, 16<<10)
		}
		if _, err := c.Write(head); err != nil {
			return took, total, err
		}
		n, err := answer(br)
		if err != nil {
			return took, total, err
		}
		total += n
		took = append(took, time.Since(began))
		if l.close {
			c.Close()
			c = nil
		}
	}
}

// answer reads an answer with a length, cheaply.
func answer(br *bufio.Reader) (int64, error) {
	line, err := br.ReadSlice('\n')
	if err != nil {
		return 0, err
	}
	if len(line) < 12 || string(line[9:12]) != "200" {
		return 0, fmt.Errorf("answered %q", line)
	}
	length := int64(-1)
	for {
		if line, err = br.ReadSlice('\n'); err != nil {
			return 0, err
		}
		if len(line) <= 2 {
			break
		}
		const name = "Content-Length: "
		if len(line) > len(name) && string(line[:len(name)]) == name {
			length = 0
			for _, c := range line[len(name) : len(line)-2] {
				length = length*10 + int64(c-'0')
			}
		}
	}
	if length < 0 {
		return 0, errors.New("an answer without length")
	}
	n, err := br.Discard(int(length))
	return int64(n), err
}

func (l load) dial(address string) (net.Conn, error) {
	c, err := net.Dial("tcp", address)
	if err != nil || !l.tls {
		return c, err
	}
	return tls.Client(c, &tls.Config{InsecureSkipVerify: true, NextProtos: []string{"http/1.1"}}), nil
}

// clientEvents follows one stream of events, each of which says when it was sent.
func (l load) clientEvents(address string, end time.Time) ([]time.Duration, int64, error) {
	ctx, cancel := context.WithDeadline(context.Background(), end)
	defer cancel()
	q, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+address+l.path, nil)
	if err != nil {
		return nil, 0, err
	}
	t := &http.Transport{}
	defer t.CloseIdleConnections()
	res, err := t.RoundTrip(q)
	if err != nil {
		return nil, 0, err
	}
	defer res.Body.Close()
	var took []time.Duration
	total := int64(0)
	s := bufio.NewScanner(res.Body)
	for s.Scan() {
		total += int64(len(s.Bytes())) + 1
		if text, ok := strings.CutPrefix(s.Text(), "data: "); ok {
			sent, err := strconv.ParseInt(text, 10, 64)
			if err != nil {
				return took, total, err
			}
			took = append(took, time.Since(time.Unix(0, sent)))
		}
	}
	return took, total, nil // its end is that of the time
}
