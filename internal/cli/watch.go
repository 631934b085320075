package cli

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "github.com/charmbracelet/bubbletea"
	"golang.org/x/term"

	"kestrix/internal/core/status"
	"kestrix/internal/live/control"
	"kestrix/internal/report"
)

func watchCommand() *command {
	return &command{
		name: "watch", group: "operate", args: "[CONFIG]",
		summary: "watch and control a running proxy in the terminal",
		help: `
keys:
  arrow keys  choose a backend
  d           drain it
  p           park it
  r           return it
  w           change its weight
  q           leave; the proxy goes on

Each order asks for confirmation.

examples:
  kestrix watch
  kestrix watch harbour.hcl
  kestrix watch -at https://192.0.2.5:9900 -user mary`,
		setup: func(fs *flag.FlagSet) func(context.Context, *Env, []string) error {
			var f operatorFlags
			f.define(fs)
			every := fs.Duration("every", time.Second, "`TIME` between updates, from 200ms to 1m")
			noColour := fs.Bool("plain", false, "print no colours")
			return func(ctx context.Context, env *Env, args []string) error {
				if len(args) > 1 {
					return usage("at most one configuration is allowed: kestrix watch [CONFIG]")
				}
				if *every < 200*time.Millisecond || *every > time.Minute {
					return usage("-every is from 200ms to 1m; it is %s", *every)
				}
				c, err := f.client(env, append(args, "")[0])
				if err != nil {
					return err
				}
				in, ok := env.Stdin.(*os.File)
				if !ok || !term.IsTerminal(int(in.Fd())) || !terminal(env.Stdout) {
					return usage("watch needs a terminal; kestrix status is for everything else, -format json and csv for programs")
				}
				view, err := c.View(ctx)
				if err != nil {
					return unusable(err)
				}
				m := &watching{ctx: ctx, client: c, every: *every, style: env.style(env.Stdout, *noColour), shown: report.Watch{View: view, Where: c.Where, Height: 24}}
				m.choose(0)
				if v := view.Status.Version; v != Version {
					m.shown.Said = fmt.Sprintf("the proxy is version %s, this is %s; what one of them does not know is left out", v, Version)
				}
				// The signals that end a program end the context. A handler of the library's own beside it would wait for ever to hand
				// over a signal to a view that the context has ended.
				_, err = tea.NewProgram(m, tea.WithContext(ctx), tea.WithoutSignalHandler(), tea.WithInput(in), tea.WithOutput(env.Stdout), tea.WithAltScreen()).Run()
				if err != nil && ctx.Err() == nil && !errors.Is(err, tea.ErrInterrupted) {
					return unusable(fmt.Errorf("the terminal cannot be used: %w", err))
				}
				return nil
			}
		},
	}
}

// watching is the terminal view as it runs.
type watching struct {
	ctx    context.Context
	client *control.Client
	every  time.Duration
	style  report.Style
	shown  report.Watch

	order  *status.Order // that is asked about; nil for none
	typing bool          // a weight is typed
	typed  string
}

// What comes to it.
type (
	looked struct {
		view *status.View
		err  error
	}
	lookAgain struct{}
	told      struct {
		order status.Order
		told  status.Told
		err   error
	}
)

func (m *watching) Init() tea.Cmd { return m.later() }

// later looks again after a while.
func (m *watching) later() tea.Cmd {
	return tea.Tick(m.every, func(time.Time) tea.Msg { return lookAgain{} })
}

// look asks the proxy how it stands.
func (m *watching) look() tea.Msg {
	ctx, cancel := context.WithTimeout(m.ctx, 3*time.Second)
	defer cancel()
	v, err := m.client.View(ctx)
	return looked{v, err}
}

func (m *watching) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.style.Width, m.shown.Height = max(msg.Width, 40), msg.Height
	case lookAgain:
		return m, m.look
	case looked:
		if msg.err != nil {
			since := m.shown.View.Status.At.Local().Format("15:04:05")
			m.shown.Trouble = fmt.Sprintf("%v; what is shown is of %s, and it is asked again", msg.err, since)
		} else {
			m.shown.View, m.shown.Trouble = msg.view, ""
			m.choose(0)
		}
		return m, m.later()
	case told:
		m.done(msg)
		return m, m.look
	case tea.KeyMsg:
		return m, m.keys(msg)
	}
	return m, nil
}

// keys does what keys say, of which several may come at once. What is pasted is
// no order.
func (m *watching) keys(k tea.KeyMsg) tea.Cmd {
	if k.Paste {
		return nil
	}
	if k.Type != tea.KeyRunes {
		return m.key(k.String())
	}
	var all []tea.Cmd
	for _, r := range k.Runes {
		all = append(all, m.key(string(r)))
	}
	return tea.Sequence(all...)
}

// View draws it.
func (m *watching) View() string { return m.style.Watch(&m.shown) }

// choose goes so many backends on; one that is gone is left for the first.
func (m *watching) choose(by int) {
	var all []string
	for _, u := range m.shown.View.Status.Upstreams {
		for _, b := range u.Backends {
			all = append(all, u.Name+"."+b.Name)
		}
	}
	if len(all) == 0 {
		m.shown.Chosen = ""
		return
	}
	at := slices.Index(all, m.shown.Chosen)
	m.shown.Chosen = all[min(max(at+by, 0), len(all)-1)]
}

// chosen returns the backend that is; nil for none.
func (m *watching) chosen() *status.Backend {
	for _, u := range m.shown.View.Status.Upstreams {
		for i := range u.Backends {
			if u.Name+"."+u.Backends[i].Name == m.shown.Chosen {
				return &u.Backends[i]
			}
		}
	}
	return nil
}

// key does what a key says.
func (m *watching) key(key string) tea.Cmd {
	switch {
	case key == "ctrl+c":
		return tea.Quit
	case m.typing:
		return m.weigh(key)
	case m.order != nil:
		return m.answer(key)
	}
	m.shown.Said = ""
	switch key {
	case "q", "esc":
		return tea.Quit
	case "up", "k":
		m.choose(-1)
	case "down", "j":
		m.choose(1)
	case "home":
		m.choose(-1 << 30)
	case "end":
		m.choose(1 << 30)
	case "d", "p", "r", "w":
		if b := m.chosen(); b != nil {
			m.begin(key, b)
		}
	}
	return nil
}

// begin asks about an order.
func (m *watching) begin(key string, b *status.Backend) {
	hand, who := b.ByHand, m.shown.Chosen
	m.order = &status.Order{Backend: who, Seen: &hand}
	open := report.Count(int64(b.InFlight))
	switch key {
	case "d":
		m.order.Do, m.shown.Ask = "drain", fmt.Sprintf("Drain %s? It keeps its sessions and what it has in flight (%s now), and gets no new ones.", who, open)
	case "p":
		m.order.Do, m.shown.Ask = "park", fmt.Sprintf("Park %s? It is taken out at once; what it has in flight (%s now) may end, sessions move or are refused.", who, open)
	case "r":
		m.order.Do, m.shown.Ask = "return", fmt.Sprintf("Return %s? It is let in again, as far as its probes allow, with the weight of the configuration.", who)
	case "w":
		m.order.Do, m.typing, m.typed = "weight", true, ""
		m.shown.Ask = m.weightAsked(b.Weight)
		return
	}
	m.shown.Ask += m.choices()
}

// choices words the keys that answer.
func (m *watching) choices() string {
	if m.order.Do == "return" || m.order.Insist {
		return " y: yes, any other key: no"
	}
	return " y: yes, t: for ten minutes, any other key: no"
}

func (m *watching) weightAsked(now int) string {
	return fmt.Sprintf("Weight of %s, which is %d now, from 0 to 10000: %s_  (enter: go on, esc: leave it)", m.order.Backend, now, m.typed)
}

// weigh takes a weight, digit by digit.
func (m *watching) weigh(key string) tea.Cmd {
	b := m.chosen()
	switch {
	case key == "esc" || b == nil:
		m.leave()
		return nil
	case key == "backspace" && m.typed != "":
		m.typed = m.typed[:len(m.typed)-1]
	case len(key) == 1 && key[0] >= '0' && key[0] <= '9' && len(m.typed) < 5:
		m.typed += key
	case key == "enter" && m.typed != "":
		n, _ := strconv.Atoi(m.typed) // digits, and few of them
		m.typing, m.order.Weight = false, &n
		m.shown.Ask = fmt.Sprintf("Weight %d for %s?", n, m.order.Backend) + m.choices()
		return nil
	}
	m.shown.Ask = m.weightAsked(b.Weight)
	return nil
}

// answer carries out what was asked about, or leaves it.
func (m *watching) answer(key string) tea.Cmd {
	o := *m.order
	switch {
	case key == "y":
	case key == "t" && o.Do != "return" && !o.Insist:
		o.For = 600
	default:
		m.leave()
		m.shown.Said = "nothing was done"
		return nil
	}
	m.leave()
	return func() tea.Msg {
		ctx, cancel := context.WithTimeout(m.ctx, 5*time.Second)
		defer cancel()
		t, err := m.client.Operate(ctx, o)
		return told{o, t, err}
	}
}

// leave forgets a question.
func (m *watching) leave() { m.order, m.typing, m.shown.Ask = nil, false, "" }

// done returns what came of an order.
func (m *watching) done(t told) {
	switch {
	case errors.Is(t.err, control.ErrInsist) && m.order == nil:
		t.order.Insist = true
		m.order = &t.order
		m.shown.Ask = strings.TrimPrefix(t.err.Error(), control.ErrInsist.Error()+": ") + ". Do it all the same?" + m.choices()
	case t.err != nil:
		m.shown.Said = t.err.Error()
	default:
		for _, x := range t.told.Orders {
			m.shown.Said = fmt.Sprintf("%s: %s; it was %s", x.Backend, x.After, x.Before)
		}
	}
}
