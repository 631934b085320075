package report

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kestrix/internal/core/config"
	"kestrix/internal/core/scenario"
	"kestrix/internal/core/trace"
)

// headsAlone are heads of columns that are no key of a result: the two that are shortened, and those of lists that have no
// JSON of their own.
var headsAlone = map[string]bool{"": true, "peak": true, "out": true, "#": true, "variant": true, "arrived": true, "last 5 minutes": true}

// names are the names that the program uses in public, each with the place of one use.
type names struct {
	keys, heads, metrics, labels map[string]string // of JSON, of columns, of metrics
	settings                     map[string]string // of both languages
}

// namesInUse reads the names from the program's source and tables.
func namesInUse(t *testing.T) *names {
	n := &names{map[string]string{}, map[string]string{}, map[string]string{}, map[string]string{}, map[string]string{}}
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		file, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.SkipObjectResolution)
		require.NoError(t, err)
		ast.Inspect(file, func(node ast.Node) bool {
			switch x := node.(type) {
			case *ast.Field:
				if x.Tag != nil {
					tag, _ := strconv.Unquote(x.Tag.Value)
					name, _, _ := strings.Cut(reflect.StructTag(tag).Get("json"), ",")
					n.keys[name] = path
				}
			case *ast.KeyValueExpr:
				if id, ok := x.Key.(*ast.Ident); ok && id.Name == "name" && filepath.Base(filepath.Dir(path)) == "report" {
					if l, ok := x.Value.(*ast.BasicLit); ok && l.Kind == token.STRING {
						head, _ := strconv.Unquote(l.Value)
						n.heads[strings.TrimSpace(head)] = path
					}
				}
			case *ast.CallExpr:
				if id, ok := x.Fun.(*ast.Ident); ok && id.Name == "metric" {
					for i, a := range x.Args {
						text, _ := strconv.Unquote(a.(*ast.BasicLit).Value)
						switch i {
						case 0:
							n.metrics[text] = path
						case 1: // its description
						default:
							n.labels[text] = path
						}
					}
				}
			}
			return true
		})
		return nil
	})
	require.NoError(t, err)
	require.Greater(t, len(n.heads), 20)
	require.Greater(t, len(n.metrics), 20)
	var walk func(b *config.Block)
	walk = func(b *config.Block) {
		for _, k := range b.Keys {
			n.settings[k.Name] = b.Name
			if k.Fields != nil {
				walk(k.Fields)
			}
		}
		for _, c := range b.Blocks {
			n.settings[c.Name] = b.Name
			walk(c)
		}
	}
	walk(config.Language)
	walk(scenario.Language)
	return n
}

// made reports whether words are keys of JSON, one after another.
func (n *names) made(words []string) bool {
	for i := len(words); i > 0; i-- {
		w := strings.Join(words[:i], "_")
		if _, ok := n.keys[w]; !ok {
			_, ok = n.keys[w+"s"]
			if !ok {
				continue
			}
		}
		if i == len(words) || n.made(words[i:]) {
			return true
		}
	}
	return false
}

// TestColumnsAreNamedLikeKeys holds the heads of all tables to the keys of the JSON results, so that a thing has one name.
func TestColumnsAreNamedLikeKeys(t *testing.T) {
	n := namesInUse(t)
	described := map[string]bool{"": true}
	for i, c := range Columns {
		described[c.Name] = true
		assert.Contains(t, n.heads, c.Name, "no table has it")
		assert.True(t, i == 0 || Columns[i-1].Name < c.Name, "%s is not in its place", c.Name)
	}
	for head, path := range n.heads {
		assert.True(t, described[head], "%s: the column %q is not described", path, head)
		assert.True(t, headsAlone[head] || n.made(strings.Fields(head)), "%s: the column %q has no key of that name", path, head)
	}
}

// metricsAlone are metrics of what JSON has in another form, and why.
var metricsAlone = map[string]string{
	"info": "of the version, as collectors expect it", "start_time_seconds": "as process_start_time_seconds",
	"upstream_eligible_backends": "a word of the glossary; JSON has state and weight", "backend_in_rotation": "a word of the glossary; JSON has the state",
	"backend_responses_total": "JSON has statuses", "backend_response_bytes_total": "JSON has bytes",
	"backend_first_byte_seconds": "a field of the access log; JSON has percentiles", "certificate_expires_time_seconds": "JSON has until", "certificate_begins_time_seconds": "JSON has from",
}

// fieldsAlone are fields of the access log that no result has, and why.
var fieldsAlone = map[string]string{"first_byte": "of one request; results have percentiles", "trace_id": "a word of W3C Trace Context",
	"backend_address": "JSON has it as address of a backend", "scheme": "a word of RFC 3986", "tls_version": "of one connection", "grpc_status": "of one call; results have causes", "sni": "a word of RFC 6066, and of conditions"}

// TestMetricsAndLogsAreNamedLikeKeys holds metrics, labels and fields of the access log to the keys of JSON. Objects, units
// and the ending of counters are added as collectors expect them.
func TestMetricsAndLogsAreNamedLikeKeys(t *testing.T) {
	n := namesInUse(t)
	for name, path := range n.metrics {
		rest := name
		for _, object := range []string{"frontend_", "upstream_", "backend_"} {
			rest = strings.TrimPrefix(rest, object)
		}
		for _, unit := range []string{"_total", "_seconds", "_time"} {
			rest = strings.TrimSuffix(rest, unit)
		}
		assert.True(t, metricsAlone[name] != "" || n.made(strings.Split(rest, "_")), "%s: metric %s", path, name)
	}
	for label, path := range n.labels {
		assert.True(t, n.made([]string{label}), "%s: label %s", path, label)
	}
	for _, field := range config.AccessFields {
		assert.True(t, n.made([]string{field}) || slices.Contains(trace.FieldNames, field) || fieldsAlone[field] != "", "field %s of the access log", field)
	}
}

// otherNames are names for things that have one, and which that is.
var otherNames = map[string]string{
	"open": "in_flight", "active": "in_flight", "concurrency": "in_flight", "concurrent": "in_flight", "took": "duration", "ms": "seconds",
	"aborted": "client_left", "cancelled": "client_left", "forecast": "prediction", "mend": "fix", "fits": "matches", "lost": "exposed_failed or misses",
	"success": "answered", "successes": "answered", "errored": "failed", "failures": "failed", "queue": "queued or waiting", "pending": "waiting",
	"alive": "up", "healthy": "up", "conns": "connections", "reqs": "requests", "rtt": "latency", "ttfb": "first_byte",
	"uri": "path", "url": "path", "remote": "client", "ip": "client", "vhost": "host",
}

// TestAThingHasOneName looks for other names in the names of all places.
func TestAThingHasOneName(t *testing.T) {
	n := namesInUse(t)
	allowed := map[string]bool{
		"lost_lines": true, "lost_lines_total": true, "lost_spans": true, "lost_spans_total": true, // they are no requests
		"queue":       true, // the block that sets its limit
		"concurrency": true, // the number of clients of a closed load
	}
	for place, all := range map[string]map[string]string{"JSON": n.keys, "column": n.heads, "metric": n.metrics, "label": n.labels, "language": n.settings} {
		for name, where := range all {
			for _, word := range strings.FieldsFunc(name, func(r rune) bool { return r == '_' || r == ' ' }) {
				assert.False(t, otherNames[word] != "" && !allowed[name], "%s %q of %s: the name is %s", place, name, where, otherNames[word])
			}
		}
	}
}
