package upstream

import (
	"kestrix/internal/core/config"
	"kestrix/internal/core/rng"
	"kestrix/internal/core/tick"
)

// stage decides where an attempt goes, or leaves that to another. It counts nothing.
type stage func(u *Upstream, now tick.Time, q *Request, a *Attempt) Verdict

// compose puts together the stages that the configuration needs, so that a simple
// upstream asks its algorithm and nothing else.
func (u *Upstream) compose() {
	u.place = (*Upstream).byAlgorithm
	if u.ignoringHealth != nil {
		u.place = orIgnoringHealth(u.place)
	}
	if s := u.cfg.Sticky; s != nil {
		u.place = bySeat(s, u.place)
	}
}

// to is the verdict that an attempt goes to a backend.
func to(id BackendID, why Reason) Verdict {
	return Verdict{Kind: Go, Backend: id, Reason: why, Seat: None}
}

// refuse is the verdict that an attempt goes nowhere.
func refuse(why Reason) Verdict {
	return Verdict{Kind: Refused, Backend: None, Reason: why, Seat: None}
}

// byAlgorithm asks the algorithm of the group that a request belongs to, then those of
// the others. Backends that were tried are excluded unless there are no others.
func (u *Upstream) byAlgorithm(now tick.Time, q *Request, a *Attempt) Verdict {
	u.query.Key, u.query.Now = q.Key, now
	if u.query.Retry = a.Number > 1; u.query.Retry {
		u.query.Tried = a.tried[:a.Tried()]
	} else if u.query.Tried != nil {
		u.query.Tried = nil
	}
	if u.algorithm.Random {
		u.query.Random = rng.Bits(u.seed, q.ID, uint64(a.Number), rng.Pick)
	}
	own := 0
	if len(u.groups) > 1 && !u.byLoad {
		own = u.groupOf(q, int(a.Number))
	}
	if u.onTrial > 0 && a.Number == 1 {
		if id := u.trial(own); id != None {
			a.trial = true
			return to(id, OnTrial)
		}
	}
	id, from := BackendID(u.groups[own].picker.Pick(&u.query)), own
	switch {
	case id != None: // -1 for either
	case u.byLoad:
		id, from = u.withRoom()
	default:
		id, from = u.among(own)
	}
	switch {
	case id == None && u.eligible > 0:
		return refuse(NoRoom)
	case id == None:
		return refuse(NoBackend)
	case a.Number > 1:
		return to(id, AfterFailure)
	case from != 0:
		return to(id, Spilled)
	}
	return to(id, ByAlgorithm)
}

// among returns the first backend that a group has, the request's own first, and the
// group: of backends that were not tried, else of all. None if no group has one.
func (u *Upstream) among(own int) (BackendID, int) {
	for {
		if id := u.groups[own].picker.Pick(&u.query); id >= 0 {
			return BackendID(id), own
		}
		for i := range u.groups {
			if i == own {
				continue
			}
			if id := u.groups[i].picker.Pick(&u.query); id >= 0 {
				return BackendID(id), i
			}
		}
		if len(u.query.Tried) == 0 {
			return None, own
		}
		u.query.Tried = nil
	}
}

// orIgnoringHealth asks the stage before, and where no backend is in rotation an algorithm
// that knows nothing of health.
func orIgnoringHealth(before stage) stage {
	return func(u *Upstream, now tick.Time, q *Request, a *Attempt) Verdict {
		v := before(u, now, q, a)
		if v.Kind == Go || v.Reason != NoBackend {
			return v
		}
		u.query.Tried = a.tried[:a.Tried()]
		slot := u.ignoringHealth.Pick(&u.query)
		if slot < 0 && len(u.query.Tried) > 0 {
			u.query.Tried = nil
			slot = u.ignoringHealth.Pick(&u.query)
		}
		if slot < 0 {
			return v
		}
		return to(BackendID(slot), TriedAnyway)
	}
}

// bySeat keeps a client on its backend, and asks the stage before for one that has
// none, or lost it.
func bySeat(s *config.Sticky, before stage) stage {
	return func(u *Upstream, now tick.Time, q *Request, a *Attempt) Verdict {
		if u.seats != nil && q.SeatKey == 0 {
			return before(u, now, q, a) // nothing tells who the client is
		}
		seat := u.seatOf(now, q, s)
		lost, reason := a.Number == 1 && seat != None, ByAlgorithm
		if lost {
			m := &u.members[seat]
			switch {
			case m.health.KeepsSessions() && !m.full:
				v := to(seat, KeptSeat)
				if u.seats == nil && q.SeatAge > s.TTL/4 {
					v.Seat = seat // the cookie is renewed while its client keeps coming
				}
				return v
			case s.OnLoss == "refuse":
				return refuse(RefusedByLoss)
			case m.health.KeepsSessions():
				lost, reason = false, SeatFull
			default:
				reason = LostSeat
			}
		}
		a.open = a.open || a.Number == 1 && (seat == None || lost)
		v := before(u, now, q, a)
		if v.Kind != Go {
			return v
		}
		if v.Reason == TriedAnyway {
			a.open = false // an emergency settles nobody's seat
		} else if reason != ByAlgorithm {
			v.Reason = reason
		}
		if a.open {
			v.Seat = v.Backend
			if u.seats != nil {
				u.seats.Put(now, q.SeatKey, int32(v.Backend))
			}
		}
		return v
	}
}

// seatOf returns the backend on which a client has its seat, None for none.
func (u *Upstream) seatOf(now tick.Time, q *Request, s *config.Sticky) BackendID {
	seat := q.Seat
	if u.seats != nil {
		seat = BackendID(u.seats.Get(now, q.SeatKey, s.TTL))
	}
	if seat < 0 || int(seat) >= len(u.members) || u.members[seat].gone || u.seats == nil && q.SeatAge > s.TTL {
		return None
	}
	return seat
}
