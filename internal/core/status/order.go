package status

// Order is what an operator wants of a backend.
type Order struct {
	Backend string  `json:"backend"`          // UPSTREAM.BACKEND
	Do      string  `json:"do"`               // park, drain, return, weight or forget
	Weight  *int    `json:"weight,omitempty"` // for weight
	For     float64 `json:"for,omitempty"`    // seconds after which it ends by itself; 0: never. For park, drain and weight
	Insist  bool    `json:"insist,omitempty"` // also if nobody is left to answer then
	Seen    *string `json:"seen,omitempty"`   // by_hand as it was seen; if somebody has set it otherwise meanwhile, nothing is done
}

// Told is what came of an order.
type Told struct {
	Backend string `json:"backend"`
	Before  string `json:"before"` // state and weight
	After   string `json:"after"`
}
