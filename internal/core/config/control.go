package config

import (
	"fmt"
	"regexp"
	"time"

	"github.com/hashicorp/hcl/v2"
)

// Control says where operators ask and tell a running proxy.
type Control struct {
	Range  hcl.Range
	Listen Placed[Address]
	Orders Placed[string] // the file of orders; empty: as serve has it
	TLS    *FrontTLS      // nil: none
	Users  []User

	BackendHistograms bool          // metrics have a histogram for each backend
	SlowRequests      time.Duration // from which a request is kept as a slow one
}

// User is somebody who may use control.
type User struct {
	Name       string
	Range      hcl.Range
	Password   string // bcrypt hash
	PasswordAt hcl.Range
	Operator   bool // may change things; else only ask
}

// bcryptHash is what a hash looks like: version, cost, 22 characters of salt
// and 31 of the hash itself (Provos, Mazieres: A Future-Adaptable Password
// Scheme, USENIX 1999).
var bcryptHash = regexp.MustCompile(`^\$2[abxy]?\$(\d\d)\$[./A-Za-z0-9]{53}$`)

// What a hash may cost: the least that bcrypt has, and what takes some seconds of
// a processor, which no log-in may take longer than.
const (
	leastCost = 4
	mostCost  = 16
)

func (d *Decoder) control(n *Node) *Control {
	c := &Control{Range: n.Range, Listen: Get[Placed[Address]](n, "listen"), Orders: Placed[string]{Get[string](n, "orders_file"), n.At("orders_file")}, BackendHistograms: Get[bool](n, "backend_histograms"), SlowRequests: Get[time.Duration](n, "slow_requests")}
	if x := n.One("tls"); x != nil {
		c.TLS = d.frontTLS(x, "http")
		c.TLS.ALPN = []string{"http/1.1"}
	}
	seen := map[string]bool{}
	for _, u := range n.All("user") {
		x := User{Name: u.Label.Value, Range: u.Range, Password: Get[string](u, "password"), PasswordAt: u.At("password"), Operator: Get[string](u, "role") == "operator"}
		if seen[x.Name] {
			d.Add(IDTwice, u.Range, fmt.Sprintf("the user %q is given twice", x.Name), "remove one of them")
		}
		seen[x.Name] = true
		switch cost := x.Cost(); {
		case !u.Has("password"): // required, and missed by the table
		case isHidden(x.Password): // of a configuration that a proxy has shown
		case !bcryptHash.MatchString(x.Password):
			d.Add(IDType, x.PasswordAt, "the password is not a bcrypt hash", "kestrix password writes one; never write the password itself")
			x.Password = ""
		case cost < leastCost || cost > mostCost:
			d.Add(IDLimit, x.PasswordAt, fmt.Sprintf("the cost %d of the hash is outside %d to %d", cost, leastCost, mostCost), "kestrix password writes one that is sound")
			x.Password = ""
		}
		c.Users = append(c.Users, x)
	}
	return c
}

// Cost returns the cost of a user's hash: 2^cost rounds.
func (u *User) Cost() int {
	m := bcryptHash.FindStringSubmatch(u.Password)
	if m == nil {
		return 0
	}
	return int(m[1][0]-'0')*10 + int(m[1][1]-'0')
}
