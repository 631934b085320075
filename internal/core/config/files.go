package config

import (
	"github.com/hashicorp/hcl/v2"
)

// UsedPair is a certificate with its key and, if one shows it, the frontend.
type UsedPair struct {
	Pair
	Frontend *Frontend // nil for control and towards backends
}

// Pairs returns the certificates that the configuration names, with their keys.
func (c *Config) Pairs() []UsedPair {
	var out []UsedPair
	for _, f := range c.Frontends {
		if f.TLS != nil {
			for _, x := range f.TLS.Pairs {
				out = append(out, UsedPair{x, f})
			}
		}
	}
	for _, u := range c.Upstreams {
		if u.TLS != nil && u.TLS.Pair.Certificate.Value != "" {
			out = append(out, UsedPair{u.TLS.Pair, nil})
		}
	}
	if c.Control != nil && c.Control.TLS != nil {
		for _, x := range c.Control.TLS.Pairs {
			out = append(out, UsedPair{x, nil})
		}
	}
	return out
}

// Authorities returns the files of certificate authorities that the configuration
// names, each once.
func (c *Config) Authorities() []Placed[string] {
	var out []Placed[string]
	seen := map[string]bool{}
	add := func(f Placed[string]) {
		if f.Value != "" && !seen[f.Value] {
			seen[f.Value] = true
			out = append(out, f)
		}
	}
	for _, f := range c.Frontends {
		if f.TLS != nil {
			add(f.TLS.ClientCA)
			if f.TLS.ACME != nil {
				add(f.TLS.ACME.DirectoryCA)
			}
		}
	}
	for _, u := range c.Upstreams {
		if u.TLS != nil {
			add(u.TLS.CA)
		}
	}
	return out
}

// ErrorPages returns the files of error pages that frontends name.
func (c *Config) ErrorPages() []Placed[string] {
	var out []Placed[string]
	for _, f := range c.Frontends {
		for _, p := range f.Errors.Pages {
			out = append(out, p.File)
		}
	}
	return out
}

// NamedFile is a file that a configuration names, or is.
type NamedFile struct {
	What    string // such as access_log
	Name    Placed[string]
	Written bool // by the proxy; others are read
	Beside  bool // a relative name counts from the folder of the configuration
	Folder  bool // it is a folder, which is created
}

// NamedFiles lists all of them.
func (c *Config) NamedFiles() []NamedFile {
	var out []NamedFile
	for _, f := range c.Files {
		out = append(out, NamedFile{What: "the configuration", Name: Placed[string]{Value: f.Name, Range: hcl.Range{Filename: f.Name, Start: hcl.InitialPos}}})
	}
	for _, x := range c.Pairs() {
		out = append(out, NamedFile{What: "certificate", Name: x.Certificate, Beside: true}, NamedFile{What: "key", Name: x.Key, Beside: true})
	}
	for _, x := range c.Authorities() {
		out = append(out, NamedFile{What: "a file of authorities", Name: x, Beside: true})
	}
	for _, x := range c.ErrorPages() {
		out = append(out, NamedFile{What: "an error page", Name: x, Beside: true})
	}
	for _, x := range c.FilesOfBackends() {
		out = append(out, NamedFile{What: "a file of backends", Name: x, Beside: true})
	}
	stored := map[string]bool{} // blocks may share one
	for _, a := range c.ACMEs() {
		if !stored[a.Storage.Value] {
			out = append(out, NamedFile{What: "the storage of acme", Name: a.Storage, Written: true, Beside: true, Folder: true})
		}
		stored[a.Storage.Value] = true
	}
	for _, l := range c.AccessLogs() {
		if !l.Special() {
			out = append(out, NamedFile{What: l.Title(), Name: l.To, Written: true})
		}
	}
	if c.EventLog.File.Value != "" {
		out = append(out, NamedFile{What: "the file of event_log", Name: c.EventLog.File, Written: true})
	}
	if c.Control != nil && c.Control.Orders.Value != "" {
		out = append(out, NamedFile{What: "orders_file", Name: c.Control.Orders, Written: true})
	}
	if c.Record.Value != "" {
		out = append(out, NamedFile{What: "record", Name: c.Record, Written: true})
	}
	return out
}
