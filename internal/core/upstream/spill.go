package upstream

import (
	"math"
	"time"

	"kestrix/internal/core/tick"
)

// Spilling by load: a backend's room is max_in_flight, scaled by its slow start and by the share
// that it reports. A request goes to the first group that has a backend with less than spill_at
// of its room in flight, else to the first with any room. Each group has two pickers for that,
// which differ in what they take for full, so that a choice costs what the algorithm costs.

// roomReturns is how much of max_in_flight a lowered room gains in a second.
const roomReturns = 0.05

// leastRoomStep is the least time between two gains.
const leastRoomStep = 100 * time.Millisecond

// roomOf returns how many requests a backend may have in flight now.
func (u *Upstream) roomOf(m *member) float64 {
	room := float64(m.most) * m.reported()
	if m.ramping {
		room *= u.ramped(m)
	}
	return min(room, m.lowered)
}

// measure notes how much room a backend has, and whether that is used.
func (u *Upstream) measure(id BackendID, m *member) {
	m.room = u.roomOf(m)
	u.fill(id, m)
}

// fill tells the pickers whether a backend is near its room, or has used it.
func (u *Upstream) fill(id BackendID, m *member) {
	open := float64(m.inFlight)
	if near := open >= u.cfg.Failover.SpillAt*m.room; near != m.near {
		m.near = near
		u.picker(m).SetFull(int(id), near)
	}
	if full := open >= m.room; full != m.full {
		u.setFull(id, m, full)
	}
}

// refused lowers the room of a backend that refused an attempt, below what it had in flight then.
func (u *Upstream) refused(now tick.Time, id BackendID, m *member) {
	room := math.Max(1, float64(m.inFlight-1))
	if room >= m.room {
		return
	}
	m.lowered, u.now = room, now
	u.growLater(now, id, m)
	u.measure(id, m)
}

// growLater has a lowered room grow, a step from now on.
func (u *Upstream) growLater(now tick.Time, id BackendID, m *member) {
	_, after := roomStep(m)
	m.growsAt = now.Add(after)
	u.due.Push(m.growsAt, event{slot: id, kind: roomGrows, gen: u.gen, at: m.growsAt})
}

// roomStep returns by how much a lowered room grows at a time, at least by a request, and after how
// long.
func roomStep(m *member) (by float64, after time.Duration) {
	perSecond := roomReturns * float64(m.most)
	by = math.Max(1, perSecond*leastRoomStep.Seconds())
	return by, time.Duration(by / perSecond * float64(time.Second))
}

// roomGrows gives a part of its room back to a backend: whole requests, as less than one would let
// another through at once.
func (u *Upstream) roomGrows(now tick.Time, id BackendID, at tick.Time) {
	m := &u.members[id]
	if at != m.growsAt {
		return // it was lowered again since
	}
	by, _ := roomStep(m)
	m.lowered += by
	if m.lowered < float64(m.most) {
		u.growLater(at, id, m)
	} else {
		m.lowered = math.Inf(1)
	}
	u.now = now
	u.measure(id, m)
	if u.waiting > 0 {
		u.serve(now)
	}
}

// refusal reports whether an outcome says that a backend takes no more (of statuses, RFC 6585 section
// 4 and RFC 9110 section 15.6.4).
func refusal(o Outcome) bool {
	return o.Kind == ConnectRefused || o.Kind == Answered && (o.Status == 429 || o.Status == 503)
}

// withRoom returns the first backend that a group has in the order of groups, and the group: with
// less than spill_at in flight, else with any room; of backends that were not tried, else of all.
// None if no group has one.
func (u *Upstream) withRoom() (BackendID, int) {
	for {
		for i := range u.groups {
			if id := u.groups[i].picker.Pick(&u.query); id >= 0 {
				return BackendID(id), i
			}
		}
		for i := range u.groups {
			if id := u.groups[i].roomy.Pick(&u.query); id >= 0 {
				return BackendID(id), i
			}
		}
		if len(u.query.Tried) == 0 {
			return None, 0
		}
		u.query.Tried = nil
	}
}

// loads sums what the groups have in flight and the room they have, and returns the group to which
// the next request goes, as far as its key does not matter.
func (u *Upstream) loads() (inFlight []int, room []float64, next int) {
	inFlight, room = make([]int, len(u.groups)), make([]float64, len(u.groups))
	free, roomy := make([]bool, len(u.groups)), make([]bool, len(u.groups))
	for i := range u.members {
		m := &u.members[i]
		if m.gone {
			continue
		}
		inFlight[m.group] += int(m.inFlight)
		if m.in {
			room[m.group] += m.room
			free[m.group] = free[m.group] || !m.near
			roomy[m.group] = roomy[m.group] || !m.full
		}
	}
	for _, has := range [][]bool{free, roomy} {
		for i := range has {
			if has[i] {
				return inFlight, room, i
			}
		}
	}
	return inFlight, room, -1
}
