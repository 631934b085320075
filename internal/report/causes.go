package report

import (
	"fmt"
	"strings"

	"kestrix/internal/core/cause"
)

// CausesPage returns the page of docs/ that lists the causes of failures.
func CausesPage(generated string) string {
	var b strings.Builder
	b.WriteString("# Causes of failures\n\nOne word for each cause, in the access log (`cause`), in problem details, in `errors` of a result, in metrics, and on\npages. " + generated + "\n\n")
	b.WriteString("| cause | what has happened | in `retry.on` and `suspend.on` |\n|---|---|---|\n")
	for _, c := range cause.All {
		on := ""
		if c.On != "" {
			on = "`" + c.On + "`"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", c.Word, cell(c.Doc), on)
	}
	b.WriteString("\nA status that is listed in `on`, such as `503`, is a failure too. `client_left` is counted as `client_left` beside `failed`,\nand `unanswered` suspends a backend; neither is in `errors`.\n")
	return b.String()
}
