package config

import (
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

// didYouMean words the hint for a wrong name; where nothing is near it lists
// what there is, as long as that stays readable.
func didYouMean(wrong string, known []string) string {
	if s := Suggest(wrong, known); s != "" {
		return "did you mean " + s + "?"
	}
	if len(known) > 0 && len(known) <= 20 {
		return "known here: " + strings.Join(known, ", ")
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
