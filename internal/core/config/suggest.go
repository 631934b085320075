package config

import (
	"strconv"
	"strings"

	"github.com/agext/levenshtein"
)

// Suggest returns the one of the known names that was probably meant by a wrong
// one, empty when none is near.
func Suggest(wrong string, known []string) string {
	best, bestAt := "", max(min(2, max(1, len(wrong)-2)), len(wrong)/3)+1
	for _, k := range known {
		d := levenshtein.Distance(strings.ToLower(wrong), strings.ToLower(k), nil)
		if d < bestAt && d < max(len(k), 2) {
			best, bestAt = k, d
		}
	}
	if best == "" && len(wrong) >= 3 {
		for _, k := range known {
			if strings.HasPrefix(k, wrong) || len(k) >= 3 && strings.HasPrefix(wrong, k) {
				return k
			}
		}
	}
	return best
}

// DidYouMean returns the hint for a wrong name: the known name that is nearest, or all of up
// to 24 known names; empty where there are more.
func DidYouMean(wrong string, known []string) string {
	if s := Suggest(wrong, known); s != "" {
		if strings.Contains(s, " ") {
			s = strconv.Quote(s)
		}
		return "did you mean " + s + "?"
	}
	switch {
	case len(known) == 0:
		return "there are none"
	case len(known) <= 24:
		return "known: " + strings.Join(known, ", ")
	}
	return ""
}

// FullName returns the name UPSTREAM.BACKEND in all that name stands for: name itself, or the only one of a backend that is
// called so. full is empty where there is none; several are those among which name does not decide.
func FullName(name string, all []string) (full string, several []string) {
	for _, n := range all {
		if n == name {
			return n, nil
		}
		if _, backend, _ := strings.Cut(n, "."); backend == name {
			several = append(several, n)
		}
	}
	if len(several) == 1 {
		return several[0], nil
	}
	return "", several
}
