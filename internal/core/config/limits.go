package config

// limits reads what one client may ask for.
func (d *Decoder) limits(n *Node) Limits {
	l := Limits{
		Range: n.Range, HeaderSize: Get[int64](n, "header_size"), Connections: Get[int](n, "connections"), BodyRate: Get[int64](n, "body_rate"), Stalled: Get[int](n, "stalled_streams"),
		BodySize: Get[int64](n, "body_size"), Rate: Get[float64](n, "rate"), Burst: Get[int](n, "burst"),
	}
	if n.Has("burst") && !n.Has("rate") {
		d.Add(IDMissing, n.At("burst"), "burst without a rate limits nothing", "rate = \"20/s\"")
	}
	if l.Rate > 0 && l.Burst == 0 {
		l.Burst = max(1, int(l.Rate))
	}
	return l
}
