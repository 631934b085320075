package config

import (
	"bytes"
	"errors"
	"slices"

	"github.com/hashicorp/hcl/v2"
	"github.com/hashicorp/hcl/v2/hclsyntax"
)

// Read reads sources as one configuration. What is wrong with it comes as
// findings, in source order; the Config holds what could be read. The error is
// an UnusableError, for a source that cannot be read at all.
func Read(files []File) (*Config, Findings, error) { return ReadIn(files, World{}) }

// ReadIn is Read for sources that may ask for variables of the environment and
// for files.
func ReadIn(files []File, w World) (*Config, Findings, error) {
	if len(files) == 0 {
		return nil, nil, errors.New("no file to read")
	}
	c := &Config{Files: files}
	d := NewDecoder()
	d.Context.Functions = functions(w)
	d.mayHide, d.readFile = w.Hidden, w.File
	type parsed struct {
		body   *hclsyntax.Body
		broken bool
		head   hcl.Range
	}
	var bodies []parsed
	for _, f := range files {
		body, findings, err := Parse(f)
		if err != nil {
			return nil, nil, err
		}
		if isScenario(body) {
			return nil, nil, &UnusableError{f.Name, 1, 1, "this is a scenario, and a configuration is expected here; name it with -scenario"}
		}
		d.Syntax(findings)
		c.Broken = c.Broken || len(findings) > 0
		start := hcl.Range{Filename: f.Name, Start: hcl.InitialPos, End: hcl.InitialPos}
		bodies = append(bodies, parsed{body, len(findings) > 0, start})
	}
	// Values of one's own first, whatever file and place they stand in.
	lets := map[*hclsyntax.Block]*Node{}
	for _, p := range bodies {
		for _, b := range p.body.Blocks {
			if b.Type == "let" && len(b.Labels) == 0 {
				lets[b] = d.letBlock(Language.Block("let"), b)
			}
		}
	}
	var roots []*Node
	for _, p := range bodies {
		// What is missing is asked of all files together, below.
		root := d.top(p.body, p.head, p.broken, lets)
		roots = append(roots, root)
	}
	d.build(c, roots)
	if !c.Broken {
		d.required(c, bodies[0].head)
	}
	d.Findings.Sort()
	c.Files = hide(files, d.secrets)
	var all []*hclsyntax.Body
	for _, p := range bodies {
		d.resolve(p.body)
		all = append(all, p.body)
	}
	c.nodes = roots
	c.raw, c.pieces = files, d.withoutSecrets(all)
	// What is wrong with something shared is said once.
	d.Findings = slices.CompactFunc(d.Findings, func(a, b Finding) bool {
		return a.ID == b.ID && a.Range == b.Range && a.Message == b.Message
	})
	return c, d.Findings, nil
}

// hide returns sources in which secrets are stars, so that they can be shown. What
// stands where stays the same.
func hide(files []File, secrets []hcl.Range) []File {
	if len(secrets) == 0 {
		return files
	}
	out := slices.Clone(files)
	for i := range out {
		var src []byte
		skipped := 0
		for _, r := range secrets {
			if r.Filename != out[i].Name {
				continue
			}
			if src == nil {
				src = slices.Clone(out[i].Source)
				skipped = len(src) - len(bytes.TrimPrefix(src, []byte("\xef\xbb\xbf")))
			}
			for k := r.Start.Byte + 1 + skipped; k < min(r.End.Byte-1+skipped, len(src)); k++ {
				if src[k] != '\n' && src[k] != '\r' {
					src[k] = '*'
				}
			}
		}
		if src != nil {
			out[i].Source = src
		}
	}
	return out
}

// top decodes one file's outermost level.
func (d *Decoder) top(body *hclsyntax.Body, head hcl.Range, broken bool, lets map[*hclsyntax.Block]*Node) *Node {
	n := &Node{Def: Language, Range: head, values: map[string]Placed[any]{}}
	d.attributes(n, body)
	for _, b := range body.Blocks {
		if let, ok := lets[b]; ok {
			n.Nodes = append(n.Nodes, let)
			continue
		}
		d.block(n, b, broken)
	}
	return n
}

// required asks for what a configuration cannot do without.
func (d *Decoder) required(c *Config, head hcl.Range) {
	if d.dropped {
		return
	}
	for _, f := range d.Findings {
		if f.ID == IDUnknown || f.ID == IDMissing || f.ID == IDChoice {
			return // a misspelt block is not missing as well
		}
	}
	switch {
	case len(c.Frontends) == 0 && len(c.Upstreams) == 0:
		d.Add(IDMissing, head, "there is neither a frontend nor an upstream here", "kestrix new ADDRESS... writes a first configuration")
	case len(c.Frontends) == 0:
		d.Add(IDMissing, head, "the configuration has no frontend", "a frontend says where traffic enters: frontend \"web\" {")
	case len(c.Upstreams) == 0 && sendsSomewhere(c): // routes that reply or redirect need none
		d.Add(IDMissing, head, "the configuration has no upstream", "an upstream names the backends: upstream \"app\" {")
	}
}

// sendsSomewhere reports whether a route needs an upstream.
func sendsSomewhere(c *Config) bool {
	for _, f := range c.Frontends {
		if slices.ContainsFunc(f.Routes, func(r *Route) bool { return r.Reply == nil && r.Redirect == nil }) {
			return true
		}
	}
	return false
}

// Parse reads one source's syntax, after making sure that it can be parsed at
// all.
func Parse(f File) (*hclsyntax.Body, Findings, error) {
	src := f.Source
	if len(src) >= 3 && string(src[:3]) == "\xef\xbb\xbf" {
		src = src[3:]
	}
	if err := guard(f.Name, src); err != nil {
		return nil, nil, err
	}
	file, diags := hclsyntax.ParseConfig(src, f.Name, hcl.InitialPos)
	findings := fromSyntax(diags, src)
	if len(findings) > 0 {
		if err := foreign(f.Name, src); err != nil {
			return nil, nil, err
		}
		if repaired, slips := meant(f.Name, src); len(slips) > 0 && guard(f.Name, repaired) == nil {
			file, diags = hclsyntax.ParseConfig(repaired, f.Name, hcl.InitialPos)
			findings = append(slips, fromSyntax(diags, repaired)...)
		}
	}
	body, ok := file.Body.(*hclsyntax.Body)
	if !ok || body == nil {
		body = &hclsyntax.Body{}
	}
	return body, findings, nil
}
