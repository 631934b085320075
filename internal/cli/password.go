package cli

import (
	"bufio"
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"os"
	"strings"

	"golang.org/x/crypto/bcrypt"
	"golang.org/x/term"
)

func passwordCommand() *command {
	return &command{
		name: "password", group: "operate", summary: "hash a password for a user of control",
		help: `
Reads a password from the terminal, without showing it, or from the first line of stdin,
and prints its bcrypt hash.

examples:
  kestrix password
  head -c 24 /dev/urandom | base64 | tee new.txt | kestrix password`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			cost := fs.Int("cost", 12, "`COST` of the hash, from 10 to 16; each step doubles the time of a guess and of the first log-in")
			return func(_ context.Context, env *Env, args []string) error {
				if len(args) > 0 {
					return usage("a password is not given as an operand, where every process can see it; it is read from stdin")
				}
				if *cost < 10 || *cost > 16 {
					return usage("-cost cannot be %d; from 10 to 16", *cost)
				}
				password, err := readPassword(env)
				if err != nil {
					return err
				}
				hash, err := bcrypt.GenerateFromPassword([]byte(password), *cost)
				if errors.Is(err, bcrypt.ErrPasswordTooLong) {
					return usage("the password is longer than the 72 bytes that bcrypt looks at")
				}
				if err != nil {
					return err
				}
				_, err = fmt.Fprintf(env.Stdout, "%s\n", hash)
				return err
			}
		},
	}
}

// shortestPassword is in characters.
const shortestPassword = 8

func readPassword(env *Env) (string, error) {
	var line string
	if f, ok := env.Stdin.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		fmt.Fprint(env.Stderr, "password: ")
		b, err := term.ReadPassword(int(f.Fd()))
		fmt.Fprintln(env.Stderr)
		if err != nil {
			return "", unusable(fmt.Errorf("the password cannot be read: %w", reason(err)))
		}
		line = string(b)
	} else {
		text, err := bufio.NewReader(io.LimitReader(env.Stdin, 4096)).ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return "", unusable(fmt.Errorf("the password cannot be read: %w", reason(err)))
		}
		line = strings.TrimRight(text, "\r\n")
	}
	if len([]rune(line)) < shortestPassword {
		return "", usage("a password has at least %d characters", shortestPassword)
	}
	return line, nil
}
