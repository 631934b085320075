package cli

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"kestrix/internal/core/config"
	"kestrix/internal/core/status"
)

// ordersForm is the version of the form in which orders are kept.
const ordersForm = 1

// keptOrders are orders as they stand in their file.
type keptOrders struct {
	Form   int           `json:"form"`
	Orders []status.Held `json:"orders"`
}

// orderFile keeps the orders of operators for the proxy after a restart.
type orderFile struct {
	env    *Env
	events *eventLog

	mu     sync.Mutex
	name   string // empty: they are in memory only
	failed bool   // as was told
}

// use goes over to the file that a configuration says, and reports whether that is another.
func (f *orderFile) use(c *config.Config) (other bool) {
	name := ""
	switch dir, _, _ := strings.Cut(f.env.Getenv("STATE_DIRECTORY"), ":"); {
	case c.Control == nil:
	case c.Control.Orders.Value != "":
		name = c.Control.Orders.Value
	case dir != "":
		name = filepath.Join(dir, "orders.json")
	default:
		f.events.say(status.EventOrders, "orders of operators are in memory only, and a restart discards them; control { orders_file } keeps them")
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	other = name != f.name
	f.name = name
	return other
}

// load returns the orders that are kept. A damaged file is put aside, so that what is
// ordered now is kept.
func (f *orderFile) load() []status.Held {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.name == "" {
		return nil
	}
	text, err := os.ReadFile(f.name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	var kept keptOrders
	if err == nil {
		if err = json.Unmarshal(text, &kept); err == nil {
			err = plausibleOrders(&kept)
		}
	}
	if err == nil {
		return kept.Orders
	}
	aside, moved := "", false
	for n := 1; n < 100 && !moved; n++ {
		aside = fmt.Sprintf("%s.damaged-%d", f.name, n)
		if _, err := os.Lstat(aside); errors.Is(err, fs.ErrNotExist) {
			moved = os.Rename(f.name, aside) == nil
		}
	}
	if moved {
		f.events.say(status.EventOrders, "%s cannot be used: %v; it was renamed to %s, and no earlier order is in force", f.name, reason(err), aside)
	} else {
		f.events.say(status.EventOrders, "%s cannot be used: %v; no earlier order is in force", f.name, reason(err))
	}
	return nil
}

// plausibleOrders returns what no proxy has written.
func plausibleOrders(k *keptOrders) error {
	if k.Form != ordersForm {
		return fmt.Errorf("it has form %d, and this program reads form %d", k.Form, ordersForm)
	}
	for i, h := range k.Orders {
		if h.Upstream == "" || h.Backend == "" || !slices.Contains([]string{"park", "drain", "weight"}, h.Do) || h.Weight < 0 || h.Weight > 10_000 {
			return fmt.Errorf("order %d is none", i+1)
		}
	}
	return nil
}

// keep writes the orders in force.
func (f *orderFile) keep(orders []status.Held) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.name == "" {
		return errors.New("they are in memory only")
	}
	err := replaceFileMode(f.name, 0o600, func(w io.Writer) error {
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return e.Encode(keptOrders{ordersForm, orders})
	})
	if failed := err != nil; failed != f.failed {
		if f.failed = failed; failed {
			f.events.say(status.EventOrders, "orders cannot be written, and a restart would discard them: %v", err)
		} else {
			f.events.say(status.EventOrders, "orders are written again, to %s", f.name)
		}
	}
	return err
}
