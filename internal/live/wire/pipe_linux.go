package wire

import (
	"errors"
	"io"
	"sync/atomic"
	"syscall"

	"golang.org/x/sys/unix"
)

// pipeSize is how much a pipe holds, in bytes, where the system allows it.
const pipeSize = 1 << 20

// Pipes are the pipes of the kernel through which bytes go from one connection to another
// without a copy in this process (splice(2)).
type Pipes struct {
	most int64
	open atomic.Int64
}

// NewPipes makes them, for so many transfers at a time.
func NewPipes(most int) *Pipes { return &Pipes{most: int64(most)} }

// Pipe is one of Pipes, for one transfer at a time.
type Pipe struct {
	of      *Pipes
	in, out int // descriptors
	held    int // bytes
}

// Take returns a pipe, nil where there are too many, or none can be made.
func (p *Pipes) Take() *Pipe {
	if p.open.Add(1) > p.most {
		p.open.Add(-1)
		return nil
	}
	var fds [2]int
	if err := unix.Pipe2(fds[:], unix.O_CLOEXEC|unix.O_NONBLOCK); err != nil {
		p.open.Add(-1)
		return nil
	}
	_, _ = unix.FcntlInt(uintptr(fds[0]), unix.F_SETPIPE_SZ, pipeSize) // a smaller one does as well
	return &Pipe{of: p, in: fds[1], out: fds[0]}
}

// Release closes a pipe. None is kept: another costs little beside what goes through it.
func (x *Pipe) Release() {
	unix.Close(x.in)
	unix.Close(x.out)
	x.of.open.Add(-1)
}

// Fill moves up to so many bytes from a connection into an empty pipe, and returns how many. It
// waits until there are some; io.EOF is the connection's end.
func (x *Pipe) Fill(from syscall.RawConn, most int64) (int, error) {
	var n int64
	var moved error
	err := from.Read(func(fd uintptr) bool {
		n, moved = splice(int(fd), x.in, most)
		return !errors.Is(moved, unix.EAGAIN)
	})
	switch {
	case err != nil:
		return 0, err
	case moved != nil:
		return 0, moved
	case n == 0:
		return 0, io.EOF
	}
	x.held += int(n)
	return int(n), nil
}

// Drain moves some of what the pipe holds into a connection, and returns how much is left. It
// waits until something can be moved.
func (x *Pipe) Drain(to syscall.RawConn) (left int, err error) {
	var n int64
	var moved error
	err = to.Write(func(fd uintptr) bool {
		n, moved = splice(x.out, int(fd), int64(x.held))
		return !errors.Is(moved, unix.EAGAIN)
	})
	if err == nil {
		err = moved
	}
	x.held -= int(n)
	return x.held, err
}

// splice is splice(2), over again when a signal came in between.
func splice(from, to int, most int64) (int64, error) {
	for {
		n, err := unix.Splice(from, nil, to, nil, int(most), unix.SPLICE_F_NONBLOCK|unix.SPLICE_F_MOVE)
		if !errors.Is(err, unix.EINTR) {
			return max(n, 0), err
		}
	}
}
