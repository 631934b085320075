//go:build !linux

package wire

import (
	"errors"
	"syscall"
)

// Pipes are pipes of the kernel; here there are none.
type Pipes struct{}

// NewPipes makes none.
func NewPipes(int) *Pipes { return &Pipes{} }

// Take returns nil: there is none.
func (*Pipes) Take() *Pipe { return nil }

// Pipe is one of Pipes.
type Pipe struct{}

// Release does nothing.
func (*Pipe) Release() {}

// Fill is not supported.
func (*Pipe) Fill(syscall.RawConn, int64) (int, error) { return 0, errors.ErrUnsupported }

// Drain is not supported.
func (*Pipe) Drain(syscall.RawConn) (int, error) { return 0, errors.ErrUnsupported }
