package sim

import "kestrix/internal/core/upstream"

// ParkHeaviest parks the backend with the most weight of an upstream, the first of
// several, with every proxy and returns its name. It does nothing and returns "" where
// fewer than two others would stay: no algorithm has a choice then.
func (e *Engine) ParkHeaviest(name string) string {
	for _, u := range e.ups {
		if u.cfg.Name != name || len(u.servers) < 3 {
			continue
		}
		core := u.views[0].core
		most := &u.servers[0]
		for _, b := range u.cfg.Backends {
			id, _ := core.Lookup(b.Name)
			if core.Backend(id).Weight > core.Backend(most.id).Weight {
				most = &u.servers[id]
			}
		}
		e.operate(most, upstream.Park, 0)
		e.noteAll(u)
		return core.Backend(most.id).Name
	}
	return ""
}
