package status

import "time"

// Order is what an operator wants of backends.
type Order struct {
	// Backend is UPSTREAM.BACKEND, or a name whose addresses are backends each; a pattern
	// with *, or several of these with commas between them.
	Backend string  `json:"backend"`
	Do      string  `json:"do"`                // park, drain, return, weight, forget or close
	Weight  *int    `json:"weight,omitempty"`  // for weight
	For     float64 `json:"for,omitempty"`     // seconds after which it ends by itself; 0: never. For park, drain and weight
	Because string  `json:"because,omitempty"` // why, for whoever reads of it
	Insist  bool    `json:"insist,omitempty"`  // also if no backend is left in rotation then
	Seen    *string `json:"seen,omitempty"`    // by_hand as it was seen; if somebody has set it otherwise meanwhile, nothing is done
}

// Told is what came of an order.
type Told struct {
	Orders []ToldBackend `json:"orders"` // by name
	Kept   bool          `json:"kept"`   // on disk, for the proxy after this one
}

// ToldBackend is what came of an order for one backend.
type ToldBackend struct {
	Backend string `json:"backend"`
	Before  string `json:"before"` // state and weight
	After   string `json:"after"`
	Ended   int    `json:"ended"` // requests, streams and connections that were open; of close
}

// Held is an order that is in force, until another one or its time ends it.
type Held struct {
	Upstream   string     `json:"upstream"`
	Backend    string     `json:"backend"` // its name, or one whose addresses are backends each
	Address    string     `json:"address"`
	Do         string     `json:"do"` // park, drain or weight
	Weight     int        `json:"weight"`
	Configured int        `json:"configured"` // the weight in the configuration when it was given
	By         string     `json:"by"`
	Because    string     `json:"because"` // empty if nothing was said
	At         time.Time  `json:"at"`
	Until      *time.Time `json:"until"`   // null: it does not end by itself
	Without    *time.Time `json:"without"` // since when there is no such backend; null if there is
}
