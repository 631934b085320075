package cli

import (
	"flag"
	"fmt"
	"strings"
)

// manual is the man page of the whole program in the man macros that every
// formatter knows, from the same data as help.
func manual() string {
	var b strings.Builder
	fmt.Fprintf(&b, ".TH KESTRIX 1 \"\" \"kestrix %s\" \"User commands\"\n", Version)
	b.WriteString(".SH NAME\nkestrix \\- write, check, replay and serve configuration for reverse proxying\n")
	b.WriteString(".SH SYNOPSIS\n.B kestrix\n.I COMMAND\n[flags and operands]\n")
	b.WriteString(".SH DESCRIPTION\nFlags stand before, between or after the operands; a lone \\-\\- ends them.\n")
	b.WriteString(".SH COMMANDS\n")
	for _, c := range flat() {
		fmt.Fprintf(&b, ".SS \"kestrix %s %s\"\n%s.\n", c.name, roff(c.args), roff(upperFirst(c.summary)))
		for _, f := range flagsOf(c) {
			kind, _ := flag.UnquoteUsage(f)
			first, values := usageOf(f)
			fmt.Fprintf(&b, ".TP\n\\fB%s\\fR", roff("-"+f.Name))
			if kind != "" {
				fmt.Fprintf(&b, " \\fI%s\\fR", roff(kind))
			}
			fmt.Fprintf(&b, "\n%s\n", roff(first))
			for _, v := range values {
				fmt.Fprintf(&b, ".br\n%s\n", roff("  "+v))
			}
		}
		if text := strings.Trim(c.help, "\n"); text != "" {
			b.WriteString(".PP\n.nf\n" + roff(text) + "\n.fi\n")
		}
	}
	b.WriteString(".SH EXIT STATUS\n")
	for _, e := range []struct {
		code int
		text string
	}{
		{exitFine, "all is well"},
		{exitFound, "check found errors, diff found a change, or an expectation of a replay failed"},
		{exitUsage, "the command line cannot be understood"},
		{exitInput, "an input cannot be used or an output not be written"},
		{interrupted, "interrupted by Ctrl-C; what was known is printed"},
	} {
		fmt.Fprintf(&b, ".TP\n%d\n%s\n", e.code, roff(e.text))
	}
	b.WriteString(".SH ENVIRONMENT\n")
	for _, e := range environment {
		fmt.Fprintf(&b, ".TP\n%s\n%s\n", roff(e[0]), roff(e[1]))
	}
	b.WriteString(".SH FILES\n")
	for _, f := range append(ownFiles(), usedFiles...) {
		fmt.Fprintf(&b, ".TP\n%s\n%s\n", roff(f[0]), roff(f[1]))
	}
	b.WriteString(".SH SEE ALSO\nkestrix help config, kestrix help scenario: every key of the two languages.\n")
	return b.String()
}

// environment are the variables of the environment that the program reads, and what they do. env() in a configuration reads
// others.
var environment = [][2]string{
	{"KESTRIX_PASSWORD", "password of -user, for status, watch, events, tell and diff -at"},
	{"LC_ALL, LC_CTYPE, LANG", "without UTF-8 in the first that is set, bars and rules are ASCII"},
	{"NO_COLOR", "not empty: print no colours"},
	{"TERM", "dumb: print no colours"},
	{"COLUMNS", "width of flowing text where stdout is no terminal, from 40 to 120"},
	{"XDG_RUNTIME_DIR", "folder of the socket of standin; the folder for temporary files when not set"},
	{"STATE_DIRECTORY", "folder from systemd for the orders of operators (orders.json)"},
	{"JOURNAL_STREAM", "set by systemd where stderr is its journal: lines of serve then begin with their priority"},
	{"RUNTIME_DIRECTORY", "folder for control.address, which has the address of control; commands without -at and CONFIG read it there, or in /run/kestrix"},
	{"LISTEN_FDS, LISTEN_PID, NOTIFY_SOCKET, WATCHDOG_USEC", "interface to systemd: sockets, notifications and watchdog of serve"},
}

// usedFiles are files that the program reads or writes by default.
var usedFiles = [][2]string{
	{"/run/kestrix/control.sock", "default socket of control"},
	{"/dev/log", "default socket of the log server"},
	{".kestrix-rules", "severities of rules, in the folder of a configuration or above it"},
}

// ownFiles are the files that install-files writes.
func ownFiles() (out [][2]string) {
	for _, f := range hostFiles(false) {
		out = append(out, [2]string{"/" + f.path, f.what})
	}
	return out
}

// upperFirst begins a sentence.
func upperFirst(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// roff keeps a text from being read as requests: backslashes and dashes are
// escaped, and a line that begins with a dot or a quote gets a mark before it
// that prints nothing.
func roff(s string) string {
	lines := strings.Split(strings.NewReplacer(`\`, `\e`, "-", `\-`, `"`, `\(dq`).Replace(s), "\n")
	for i, l := range lines {
		if strings.HasPrefix(l, ".") || strings.HasPrefix(l, "'") {
			lines[i] = `\&` + l
		}
	}
	return strings.Join(lines, "\n")
}
