package journal

import (
	"fmt"

	"kestrix/internal/core/upstream"
)

// Verify tells the entries of a journal to fresh cores, made with the same seed. The error
// says where one says something else than it did.
func Verify(entries []Entry, seed uint64) error { return verify(entries, seed, nil) }

// verify is Verify, with somebody who is shown each core before it is told
// something, and what it then says; nil for nobody.
func verify(entries []Entry, seed uint64, watch func(e *Entry, core *upstream.Upstream) (then func(upstream.Verdict, upstream.Step, []upstream.Action))) (err error) {
	cores := map[string]*Core{}
	attempts := map[uint64]*upstream.Attempt{} // by request
	i := 0
	defer func() {
		// The core takes what the proxy tells it on trust; a journal that was
		// tampered with may tell it anything.
		if x := recover(); x != nil {
			err = fmt.Errorf("entry %d, %s: the core cannot have been told this", i+1, entries[i].Call)
		}
	}()
	for ; i < len(entries); i++ {
		e := &entries[i]
		d, a, said := cores[e.Upstream], attempts[e.Request.ID], ""
		if d == nil && e.Call != "new" {
			return fmt.Errorf("entry %d: %s of an upstream that was not made", i+1, e.Call)
		}
		if a == nil {
			a = &upstream.Attempt{}
			attempts[e.Request.ID] = a
		}
		// Calls that are not about a backend have 0; an upstream whose name does not resolve
		// has no backend at all.
		if e.Call != "new" && (e.Backend < 0 || e.Backend > 0 && int(e.Backend) >= d.Slots()) || !e.Outcome.Kind.Known() {
			return fmt.Errorf("entry %d: %s of a backend or outcome that there is not", i+1, e.Call)
		}
		then := func(upstream.Verdict, upstream.Step, []upstream.Action) {}
		if watch != nil && d != nil {
			if f := watch(e, d.Upstream); f != nil {
				then = f
			}
		}
		if e.Call == "new" {
			cores[e.Upstream] = New(e.At, e.Config, seed, nil)
		} else if said, err = d.told(e, a, attempts, then); err != nil {
			return fmt.Errorf("entry %d: %w", i+1, err)
		}
		if said != e.Said {
			return fmt.Errorf("entry %d, %s at %d: the core says %q where it said %q", i+1, e.Call, e.At, said, e.Said)
		}
	}
	return nil
}

// told tells a core what it was told in an entry, and returns in words what it says.
// then is shown what that was; attempts are those under way, by request.
func (d *Core) told(e *Entry, a *upstream.Attempt, attempts map[uint64]*upstream.Attempt, then func(upstream.Verdict, upstream.Step, []upstream.Action)) (said string, err error) {
	switch e.Call {
	case "reload":
		d.Reload(e.At, e.Config)
	case "choose":
		v := d.Choose(e.At, &e.Request, a)
		said = fmt.Sprint(v)
		then(v, 0, nil)
	case "settle":
		s := d.Settle(e.At, &e.Request, a, e.Outcome)
		said = fmt.Sprint(s)
		then(upstream.Verdict{}, s, nil)
	case "repeats":
		said = fmt.Sprint(d.Repeats(e.At, &e.Request, a, e.Outcome))
	case "begins":
		d.FirstByte(e.At, &e.Request, a)
	case "cancel":
		d.Cancel(e.At, &e.Request, a)
		then(upstream.Verdict{}, 0, nil)
	case "probe":
		d.ProbeSeen(e.At, e.Backend, e.Probe)
	case "operate":
		d.Operate(e.At, e.Backend, e.Operation, e.Weight)
	case "learn":
		d.Learn(e.At, e.SeatKey, e.Backend)
	case "advance":
		actions := d.Advance(e.At, nil)
		said = actionWords(actions)
		for _, x := range actions {
			if x.Kind == upstream.Granted {
				if waits := attempts[x.Grant.Request.ID]; waits != nil {
					*waits = x.Grant.Attempt
				}
			}
		}
		then(upstream.Verdict{}, 0, actions)
	default:
		return "", fmt.Errorf("there is no call %q", e.Call)
	}
	return said, nil
}
