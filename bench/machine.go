package main

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"
)

// processorTime is what a process has used, of all its threads.
func processorTime(c *exec.Cmd) time.Duration {
	if c == nil {
		return 0
	}
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", c.Process.Pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(b), ") ")
	f := strings.Fields(rest)
	user, _ := strconv.Atoi(f[11])
	system, _ := strconv.Atoi(f[12])
	return time.Duration(user+system) * 10 * time.Millisecond // USER_HZ is 100
}

// resident is the memory of a process, in bytes.
func resident(c *exec.Cmd) int {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/statm", c.Process.Pid))
	if err != nil {
		return 0
	}
	f := strings.Fields(string(b))
	pages, _ := strconv.Atoi(f[1])
	return pages * os.Getpagesize()
}

// idle opens connections that ask once and then wait, and tells what each costs.
func idle(address string, c *exec.Cmd) error {
	const n = 10_000
	before := resident(c)
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	buf := make([]byte, 4<<10)
	for range n {
		conn, err := net.Dial("tcp", address)
		if err != nil {
			return err
		}
		open = append(open, conn)
		if _, err := conn.Write([]byte("GET / HTTP/1.1\r\nHost: tickets.tern.example\r\n\r\n")); err != nil {
			return err
		}
		if _, err := conn.Read(buf); err != nil {
			return err
		}
	}
	time.Sleep(2 * time.Second)
	fmt.Printf("idle\n  %d connections that wait: %.1f KB each, %d MB in all\n", n, float64(resident(c)-before)/n/1000, resident(c)>>20)
	return nil
}

// certificate makes one for the TLS loads.
func (w *world) certificate() error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	t := &x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), DNSNames: []string{"tickets.tern.example"}}
	der, err := x509.CreateCertificate(rand.Reader, t, t, &key.PublicKey, key)
	if err != nil {
		return err
	}
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	for name, block := range map[string]*pem.Block{"bench.pem": {Type: "CERTIFICATE", Bytes: der}, "bench.key": {Type: "PRIVATE KEY", Bytes: secret}} {
		if err := os.WriteFile(filepath.Join(w.dir, name), pem.EncodeToMemory(block), 0o600); err != nil {
			return err
		}
	}
	return nil
}
