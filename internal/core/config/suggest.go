package config

import (
	"strings"

	"github.com/agext/levenshtein"
)

// Suggest returns the one of the known names that was probably meant by a wrong
// one, empty when none is near.
func Suggest(wrong string, known []string) string {
	best, bestAt := "", max(2, len(wrong)/3)+1
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
