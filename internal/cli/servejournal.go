package cli

import (
	"crypto/rand"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
	"kestrix/internal/live/journal"
	"kestrix/internal/live/proxy"
)

// journalFlushed is how often what was decided is handed on to the journal's file.
const journalFlushed = time.Second

// journalParts is in how many parts a journal of its full size lies; the oldest is removed
// where another one begins.
const journalParts = 8

// sizeFlag is a flag that takes a size, such as 1GiB.
type sizeFlag int64

func (f *sizeFlag) String() string {
	if f == nil || *f == 0 {
		return ""
	}
	return config.FormatSize(int64(*f))
}

func (f *sizeFlag) Set(s string) error {
	n, err := config.ParseSize(s)
	*f = sizeFlag(n)
	return err
}

// journalFile is a journal on disk: a file, and beside it its further parts, .2 and so on.
type journalFile struct {
	name string
	file *os.File
	most int64 // bytes of all parts; 0: any
	told func(kind status.EventKind, format string, args ...any)
}

// partName returns the name of a part.
func partName(name string, part int) string {
	if part <= 1 {
		return name
	}
	return name + "." + strconv.Itoa(part)
}

// partsOf returns the numbers of the parts that are there, in order.
func partsOf(name string) (parts []int) {
	if _, err := os.Stat(name); err == nil {
		parts = append(parts, 1)
	}
	dir, base := filepath.Split(name)
	entries, _ := os.ReadDir(filepath.Join(dir, ".")) // of a folder that cannot be read there are none
	for _, e := range entries {
		if n, ok := strings.CutPrefix(e.Name(), base+"."); ok {
			if part, err := strconv.Atoi(n); err == nil && part > 1 && strconv.Itoa(part) == n {
				parts = append(parts, part)
			}
		}
	}
	slices.Sort(parts)
	return parts
}

// create begins the journal under a name that neither it nor a part of another has.
func (j *journalFile) create(wanted string) error {
	for {
		f, name, err := freshFile(wanted)
		if err != nil {
			return unusable(fmt.Errorf("the journal %s cannot be written: %w", wanted, reason(err)))
		}
		j.file, j.name = f, name
		if info, err := f.Stat(); err == nil && !info.Mode().IsRegular() {
			j.most = 0 // a pipe has no parts
		}
		if len(partsOf(name)) == 1 || j.most == 0 {
			return nil
		}
		// It holds the name of one whose beginning is gone; the next name is another's.
		f.Close()
		defer os.Remove(name)
	}
}

// next ends a part and begins another one.
func (j *journalFile) next(part int) (io.Writer, error) {
	name := partName(j.name, part)
	f, err := os.OpenFile(name, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o640)
	if err != nil {
		return nil, err
	}
	j.file.Close()
	j.file = f
	for parts := partsOf(j.name); len(parts) > journalParts; parts = parts[1:] {
		gone := partName(j.name, parts[0])
		if err := os.Remove(gone); err != nil {
			return nil, err
		}
		if parts[0] == 1 {
			j.told(status.EventJournal, "%s goes on in %s; all is as large as -journal-size says, and the oldest part is removed. Without its beginning it cannot be verified any more, and does not tell how backends stood", j.name, name)
		}
	}
	return f, nil
}

// keepJournal has a proxy's options write a journal, until end.
func (x *serving) keepJournal(o *proxy.Options) (end func(), err error) {
	file := &journalFile{most: int64(x.f.journalSize), told: x.events.say}
	if err := file.create(x.f.journal); err != nil {
		return nil, err
	}
	for o.Seed == 0 { // which a journal has to know
		var b [8]byte
		_, _ = rand.Read(b[:]) // never fails, as the package promises
		o.Seed = binary.LittleEndian.Uint64(b[:])
	}
	o.Began = time.Now()
	j := journal.NewWriter(file.file, journal.Head{Version: Version, Seed: o.Seed, Began: o.Began}, journal.WriterOptions{
		PartSize: file.most / journalParts,
		Next:     file.next,
		Broken:   func(err error) { x.events.say(status.EventJournal, "%s ends: %v", file.name, reason(err)) },
	})
	o.Journal = j.Add
	done, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		tick := time.NewTicker(journalFlushed)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				j.Flush()
			case <-done:
				return
			}
		}
	}()
	x.events.say(status.EventJournal, "decisions are written to %s", file.name)
	return func() {
		close(done)
		<-gone
		j.Flush()
		file.file.Close()
	}, nil
}
