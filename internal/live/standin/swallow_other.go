//go:build !linux

package standin

import (
	"errors"

	"kestrix/internal/core/config"
)

// hole is an address at which connecting meets silence. Only Linux drops what asks
// for more than a full queue takes.
type hole struct{}

// dig returns an error that says so.
func dig(config.Address) (*hole, error) {
	return nil, errors.New("connecting can meet silence on Linux only")
}

func (*hole) close() {}
