package check

import (
	"fmt"
	"regexp"
	"strings"

	"kestrix/internal/core/config"
)

// Levels are how severe a repository takes rules: what differs from the table of rules.
type Levels map[string]Level

// Level is how severe a rule is taken.
type Level struct {
	Severity config.Severity
	Off      bool   // not at all
	Because  string // why, where it is off
}

var levelLine = regexp.MustCompile(`^(\S+)\s+(\S+)(?:\s+because\s+(\S.*))?$`)

// ParseLevels reads lines such as "KX512 off because our clients retry" and "KX307 warning"; # begins a comment. The error
// is a config.UnusableError with the place.
func ParseLevels(name string, src []byte) (Levels, error) {
	out := Levels{}
	for i, line := range strings.Split(string(src), "\n") {
		text, _, _ := strings.Cut(line, "#")
		if text = strings.TrimSpace(text); text == "" {
			continue
		}
		bad := func(format string, args ...any) error {
			return &config.UnusableError{File: name, Line: i + 1, Column: 1 + len(line) - len(strings.TrimLeft(line, " \t")), What: fmt.Sprintf(format, args...)}
		}
		m := levelLine.FindStringSubmatch(text)
		if m == nil {
			return nil, bad("%q is no line of an id and a severity, such as: KX512 off because our clients ask again", text)
		}
		id := strings.ToUpper(m[1])
		rule := Find(id)
		for _, r := range LiveRules {
			if r.ID == id {
				rule = r
			}
		}
		level := Level{Because: m[3]}
		switch m[2] {
		case "error":
			level.Severity = config.Error
		case "warning":
			level.Severity = config.Warning
		case "advice":
			level.Severity = config.Advice
		case "off":
			level.Off = true
		default:
			return nil, bad("%q is no severity; it is error, warning, advice or off", m[2])
		}
		switch _, twice := out[id]; {
		case rule == nil:
			return nil, bad("there is no rule %s", m[1])
		case rule.Run == nil && rule.Flag() == "" || rule.Severity == config.Error:
			return nil, bad("%s is an error: what it finds cannot be used, whatever a repository thinks of it", id)
		case level.Off && level.Because == "":
			return nil, bad("%s is off without a reason: KX512 off because our clients ask again", id)
		case twice:
			return nil, bad("%s is given twice", id)
		}
		out[id] = level
	}
	return out, nil
}

// Apply returns findings as severe as a repository takes them; those of rules that are off are left out, and
// counted.
func (l Levels) Apply(all config.Findings) (kept config.Findings, off int) {
	for _, f := range all {
		if level, ok := l[f.ID]; ok {
			if level.Off {
				off++
				continue
			}
			f.Severity = level.Severity
		}
		kept = append(kept, f)
	}
	return kept, off
}
