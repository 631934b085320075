package socket

import (
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"os"
	"syscall"
)

// OutOfResources reports whether an error is of this machine, which has run out of
// something, and says nothing of whom it was spoken to.
func OutOfResources(err error) bool {
	for _, e := range []error{syscall.EMFILE, syscall.ENFILE, syscall.ENOBUFS, syscall.ENOMEM, syscall.EADDRNOTAVAIL} {
		if errors.Is(err, e) {
			return true
		}
	}
	return false
}

// worded is an error in words of ours.
type worded struct {
	text string
	err  error
}

func (w worded) Error() string { return w.text }

// Unwrap returns the error of the system.
func (w worded) Unwrap() error { return w.err }

// ShortError returns the innermost, readable part of an error of package net.
func ShortError(err error) error {
	switch {
	case errors.Is(err, syscall.EADDRINUSE):
		return worded{"the address is in use by another process", err}
	case errors.Is(err, syscall.EACCES):
		return worded{"permission denied; ports below 1024 need a privilege", err}
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return worded{"this machine does not have that address", err}
	case errors.Is(err, syscall.ECONNREFUSED):
		return errors.New("connection refused")
	case errors.Is(err, syscall.ECONNRESET):
		return errors.New("the connection was reset")
	}
	var de *net.DNSError
	if errors.As(err, &de) {
		if de.IsNotFound {
			return fmt.Errorf("the name %s does not resolve", de.Name)
		}
		return fmt.Errorf("the name %s cannot be looked up: %s", de.Name, de.Err)
	}
	var se *os.SyscallError
	if errors.As(err, &se) {
		return se.Err
	}
	var oe *net.OpError
	if errors.As(err, &oe) && oe.Err != nil {
		return oe.Err
	}
	return err
}

// TLSError words what went wrong in a handshake with a backend.
func TLSError(err error) error {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &unknown):
		return errors.New("the backend's certificate is of an authority that is not known here")
	case errors.As(err, &name):
		return fmt.Errorf("the backend's certificate is not for %s", name.Host)
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return errors.New("the backend's certificate is out of date")
	}
	return fmt.Errorf("the TLS handshake failed: %w", err)
}
