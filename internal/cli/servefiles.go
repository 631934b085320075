package cli

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fsnotify/fsnotify"
)

// follower watches files by the folders they are in, so that one that is put in
// the place of another is seen too, or one behind a link.
type follower struct {
	w   *fsnotify.Watcher
	out chan change

	want chan [2][]string
	end  chan struct{}
}

// change is one of files that are followed.
type change struct {
	own   bool     // the configuration itself
	names []string // of files that it names, otherwise
	paths []string // theirs
}

// settle is how long nothing may change until a change is told: files are often
// written in pieces, and several together.
const settle = 200 * time.Millisecond

func newFollower() (*follower, error) {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, err
	}
	f := &follower{w: w, out: make(chan change), want: make(chan [2][]string), end: make(chan struct{})}
	go f.run()
	return f, nil
}

// follow returns which files matter from now on: own make up the configuration,
// folders included, named are named in it.
func (f *follower) follow(own, named []string) {
	if f != nil {
		f.want <- [2][]string{own, named}
	}
}

func (f *follower) changes() <-chan change {
	if f == nil {
		return nil
	}
	return f.out
}

func (f *follower) close() {
	if f != nil {
		close(f.end)
		f.w.Close()
	}
}

// stamp is what is remembered of a file to see that it is another one.
type stamp struct {
	size int64
	time time.Time
	file os.FileInfo
}

func stampOf(name string) stamp {
	info, err := os.Stat(name)
	if err != nil {
		return stamp{size: -1}
	}
	return stamp{info.Size(), info.ModTime(), info}
}

func (a stamp) same(b stamp) bool {
	return a.size == b.size && a.time.Equal(b.time) && (a.file == nil || b.file == nil || os.SameFile(a.file, b.file))
}

func (f *follower) run() {
	k := watchedFiles{seen: map[string]stamp{}, before: map[string]stamp{}}
	timer := time.NewTimer(time.Hour)
	defer timer.Stop()
	due := false // the timer will fire soon: a log in the same folder changes all the time
	soon := func() {
		if !due {
			due = true
			timer.Reset(settle)
		}
	}
	for {
		select {
		case <-f.end:
			return
		case want := <-f.want:
			k.own, k.named = want[0], want[1]
			f.watch(&k)
		case _, ok := <-f.w.Events:
			if !ok {
				return
			}
			soon()
		case _, ok := <-f.w.Errors: // too much at once: something did change
			if !ok {
				return
			}
			soon()
		case <-timer.C:
			due = false
			c, again := k.look()
			if again {
				soon()
				break
			}
			if !c.own && len(c.names) == 0 {
				break
			}
			select {
			case f.out <- c:
			case <-f.end:
				return
			}
		}
	}
}

// watch has the files of what is looked at watched, and no others.
func (f *follower) watch(k *watchedFiles) {
	for _, name := range f.w.WatchList() {
		_ = f.w.Remove(name)
	}
	for _, name := range slices.Concat(k.own, k.named) {
		if _, known := k.seen[name]; !known {
			k.seen[name] = stampOf(name)
		}
		for _, at := range watched(name) {
			_ = f.w.Add(at) // a folder that is away is looked at with the next change
		}
	}
}

// watchedFiles is what is known of the files that are watched.
type watchedFiles struct {
	own, named   []string
	seen, before map[string]stamp // as they were told of, and at the last look
}

// look returns what has changed; again says that something still changes, and what
// belongs together is told together.
func (k *watchedFiles) look() (c change, again bool) {
	now := map[string]stamp{}
	for _, name := range slices.Concat(k.own, k.named) {
		s := stampOf(name)
		if s.same(k.seen[name]) {
			continue
		}
		now[name] = s
		last, ok := k.before[name]
		again = again || !ok || !s.same(last)
	}
	if k.before = now; again {
		return c, true
	}
	for name, s := range now {
		k.seen[name] = s
		if slices.Contains(k.own, name) {
			c.own = true
		} else {
			c.names, c.paths = append(c.names, filepath.Base(name)), append(c.paths, name)
		}
	}
	slices.Sort(c.names)
	return c, false
}

// watched returns the folders in which a change may be one of a file: its own, and
// those that links on the way lead to.
func watched(name string) []string {
	if info, err := os.Stat(name); err == nil && info.IsDir() {
		return []string{name}
	}
	out := []string{filepath.Dir(name)}
	if real, err := filepath.EvalSymlinks(name); err == nil && !strings.HasPrefix(real, filepath.Dir(name)+string(filepath.Separator)) {
		out = append(out, filepath.Dir(real))
	}
	return out
}
