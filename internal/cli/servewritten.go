package cli

import (
	"fmt"
	"os"
	"path/filepath"

	"kestrix/internal/core/config"
)

// filesApart returns an error if two of the files that serve writes, or one of them and one
// that it reads, are the same: by their names, as rule KX113 knows them, or by links.
func filesApart(s *source, journal string) error {
	type named struct {
		config.NamedFile
		path string
		info os.FileInfo // nil: it is not there
	}
	files := s.config.NamedFiles()
	if journal != "" {
		files = append(files, config.NamedFile{What: "-journal", Name: config.Placed[string]{Value: journal}, Written: true})
	}
	var all []named
	for _, f := range files {
		n := named{NamedFile: f, path: f.Name.Value}
		if f.Beside {
			n.path = pathFrom(s.read[0], f.Name.Value)
		}
		if path, err := filepath.Abs(n.path); err == nil {
			n.path = path
		}
		if info, err := os.Stat(n.path); err == nil && !info.IsDir() {
			n.info = info
		}
		for _, o := range all {
			if same := n.path == o.path || n.info != nil && o.info != nil && os.SameFile(n.info, o.info); !same || n.path == os.DevNull || !n.Written && !o.Written {
				continue
			}
			where := ""
			if r := n.Name.Range; r.Filename != "" {
				where = fmt.Sprintf("%s:%d:%d: ", r.Filename, r.Start.Line, r.Start.Column)
			}
			return unusable(fmt.Errorf("%s%s is written to %s, and that is %s, %s; give each its own file", where, n.What, n.Name.Value, o.What, o.Name.Value))
		}
		all = append(all, n)
	}
	return nil
}
