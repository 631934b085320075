package result

// Diagnosis is why requests failed or waited, as far as replays with one thing changed
// tell.
type Diagnosis struct {
	Causes  []Diagnosed `json:"causes"`  // the one whose change saves most stands first
	Replays int         `json:"replays"` // that were made for it
	Unclear bool        `json:"unclear"` // something failed, and nothing that was tried accounts for it
	Note    string      `json:"note"`    // why it was not looked for; empty if it was
}

// Diagnosed is a cause that a comparison of two replays supports.
type Diagnosed struct {
	Cause    string `json:"cause"` // a word of study.Causes
	Upstream string `json:"upstream"`
	Says     string `json:"says"`   // what happened
	Change   string `json:"change"` // the change in the replay for comparison, as it would be written
	// Hypothetical reports that the change shows the cause and is no advice, such as a retry of every method.
	Hypothetical bool `json:"hypothetical"`
	Before       Harm `json:"before"` // as it is
	With         Harm `json:"with"`   // with the change
}

// Harm is what requests of an upstream met, in all or in a part of a replay.
type Harm struct {
	Requests   int64   `json:"requests"`
	Failed     int64   `json:"failed"`      // those whose clients left included
	ElapsedP99 float64 `json:"elapsed_p99"` // seconds
	After      bool    `json:"after"`       // of the requests that came after the last fault's end
}

// Share returns the part of the requests that failed.
func (h *Harm) Share() float64 {
	if h.Requests == 0 {
		return 0
	}
	return float64(h.Failed) / float64(h.Requests)
}

// Seeds is how figures differ between replays that differ in their seed alone.
type Seeds struct {
	Seeds     int          `json:"seeds"`     // how many there were in all
	Resampled bool         `json:"resampled"` // each drew the clients of the trace with replacement
	Figures   []SeedFigure `json:"figures"`
}

// SeedFigure is one figure across seeds. From 40 of them on, Low and High are what 95 % of
// them stay within, else the least and the most.
type SeedFigure struct {
	What   string  `json:"what"` // a key of the result, such as latency.p95
	Of     string  `json:"of"`   // UPSTREAM.BACKEND or a fault, where it is one's; else empty
	Unit   string  `json:"unit"` // count, share or seconds
	Median float64 `json:"median"`
	Low    float64 `json:"low"`
	High   float64 `json:"high"`
	Never  int     `json:"never"` // seeds with which the moment never came; they are in no other figure
}
