package trace

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
)

// entries are the records of a file that is read whole before its first record is given,
// sorted by time: browsers write those of an HTTP Archive 1.2 in the order in which they
// were finished.
type entries struct {
	all []Record
	at  int
}

// maxHeld bounds what is held in memory.
const maxHeld = 1 << 30

func (h *entries) next(rec *Record) bool {
	if h.at >= len(h.all) {
		return false
	}
	*rec = h.all[h.at]
	h.at++
	return true
}

// walk hands each entry of a file out, with its place, until that says to stop, and notes
// whether there is a list of them. It returns what is wrong with what stands around them.
type walk func(j *jsonl, each func(entry []byte, at int) bool, found *bool) string

// readWhole reads all entries of a file, each by entry. What follows an entry that cannot
// be read, and cannot be passed over, comes as the error after those before it.
func (r *Reader) readWhole(walk walk, entry func(*jsonl, *Record) string) (*entries, error) {
	all, ok := r.lines.rest(maxHeld)
	all = bytes.TrimPrefix(all, []byte("\xef\xbb\xbf"))
	if r.lines.failed != nil {
		return nil, r.failed(r.lines.failed, r.lines.line)
	}
	if !ok {
		return nil, r.lost(1, fmt.Sprintf("%s of more than %d MiB cannot be held in memory", r.Format.Title, maxHeld>>20))
	}
	if err := r.fits(); err != nil {
		return nil, err
	}
	h, j := &entries{}, &jsonl{line: all}
	found := false
	var stop error
	line, seen := int64(1), 0
	why := walk(j, func(text []byte, at int) bool {
		found = true
		var rec Record
		rec.reset()
		e := &jsonl{line: all[:at+len(text)], i: at, names: r.names}
		if why := entry(e, &rec); why != "" {
			line, column := place(all, e.i)
			stop = r.badAt(line, column, why)
			return stop == nil
		}
		line += int64(bytes.Count(all[seen:at], []byte("\n")))
		rec.Line, seen = line, at
		h.all = append(h.all, rec)
		return true
	}, &found)
	slices.SortStableFunc(h.all, func(a, b Record) int { return cmp.Compare(a.Time, b.Time) })
	if stop != nil {
		return h, stop
	}
	if why != "" {
		line, column := place(all, j.i)
		return h, &LineError{Name: r.name, Line: line, Column: column, Why: why, CannotBeSkip: true}
	}
	if !found {
		return nil, r.lost(1, "there is no log with entries, as a HAR file has; JSON Lines has one object a line")
	}
	return h, nil
}

// place returns line and column of an offset.
func place(b []byte, at int) (int64, int) {
	at = min(at, len(b))
	return int64(bytes.Count(b[:at], []byte("\n"))) + 1, at - bytes.LastIndexByte(b[:at], '\n')
}

// array walks a list of objects.
func array(j *jsonl, each func(entry []byte, at int) bool, found *bool) string {
	j.space()
	*found = true
	stopped := false
	why := j.each(each, &stopped)
	if stopped {
		return ""
	}
	if j.space(); why == "" && j.i < len(j.line) {
		return "something follows the array"
	}
	return why
}

// each hands the values of a list out, until that says to stop.
func (j *jsonl) each(each func(entry []byte, at int) bool, stopped *bool) string {
	return j.list(func() string {
		start := j.i
		if why := j.skip(0); why != "" {
			return why
		}
		if !each(j.line[start:j.i], start) {
			*stopped = true
			return "stop"
		}
		return ""
	})
}
