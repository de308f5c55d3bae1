package dynaddr

import (
	"fmt"
	"net/netip"
	"slices"
	"time"
)

// Source is what has to confirm a reported address.
type Source string

// The sources. NoSource is one that a policy names to end what it would inherit.
const (
	NoSource    Source = "none"
	PeerSource  Source = "peer"  // the report has to come from the address that it names
	TokenSource Source = "token" // a report with another token of the same uplink has to name the same address
)

// Silent is what becomes of names whose uplinks all stopped reporting.
type Silent string

// The ways. Each marks the host as silent and notifies.
const (
	KeepSilent     Silent = "keep"     // the last address stays
	RemoveSilent   Silent = "remove"   // the address records are removed: a name that leads to a stranger is worse than none
	FallbackSilent Silent = "fallback" // the names get other addresses
)

// Policy is what is believed of the reports for a name, and when that moves. Fields that are nil are inherited, by a host from its location; what a location does
// not set has the value of Default.
type Policy struct {
	Networks     *[]netip.Prefix `json:"allowed_networks,omitempty"` // addresses are believed within these alone, private ones too; none: all public addresses
	MinInterval  *uint32         `json:"min_interval,omitempty"`     // seconds between two changes of the name at the least
	HoldDown     *uint32         `json:"hold_down,omitempty"`        // seconds that the third of several quick changes waits; each further one twice as long. 0 for none
	MaxHoldDown  *uint32         `json:"max_hold_down,omitempty"`    // seconds that a change waits at the most
	SecondSource *Source         `json:"second_source,omitempty"`    // what has to confirm an address
	Failover     *uint32         `json:"failover,omitempty"`         // seconds without a report, after which the next uplink is followed
	Silence      *uint32         `json:"silence,omitempty"`          // seconds without any report, after which the host is silent; 0 for never
	OnSilence    *Silent         `json:"on_silence,omitempty"`       // what becomes of the name then
	FallbackV4   *netip.Addr     `json:"fallback_v4,omitempty"`      // the IPv4 address of a name that is silent, where on_silence is fallback
	FallbackV6   *netip.Addr     `json:"fallback_v6,omitempty"`      // the same
}

func is[T any](v T) *T { return &v }

// Default returns the policy of who sets nothing: each believed change is taken immediately, three quick ones excepted, and nobody is ever silent.
func Default() Policy {
	return Policy{Networks: is([]netip.Prefix{}), MinInterval: is(uint32(0)), HoldDown: is(uint32(30)), MaxHoldDown: is(uint32(900)), SecondSource: is(NoSource), Failover: is(uint32(600)),
		Silence: is(uint32(0)), OnSilence: is(KeepSilent), FallbackV4: &netip.Addr{}, FallbackV6: &netip.Addr{}}
}

// Over returns p with what it does not set from base.
func (p Policy) Over(base Policy) Policy {
	p.Networks, p.MinInterval, p.HoldDown, p.MaxHoldDown = or(p.Networks, base.Networks), or(p.MinInterval, base.MinInterval), or(p.HoldDown, base.HoldDown), or(p.MaxHoldDown, base.MaxHoldDown)
	p.SecondSource, p.Failover, p.Silence, p.OnSilence = or(p.SecondSource, base.SecondSource), or(p.Failover, base.Failover), or(p.Silence, base.Silence), or(p.OnSilence, base.OnSilence)
	p.FallbackV4, p.FallbackV6 = or(p.FallbackV4, base.FallbackV4), or(p.FallbackV6, base.FallbackV6)
	return p
}

func or[T any](a, b *T) *T {
	if a != nil {
		return a
	}
	return b
}

// believable returns why an address is not taken under a policy, as a clause that goes on after it; empty where it is. Addresses within allow are taken though
// nobody outside could reach them.
func (p Policy) believable(addr netip.Addr, allow []netip.Prefix) string {
	if list := *p.Networks; len(list) > 0 {
		for _, net := range list {
			if net.Contains(addr) {
				return ""
			}
		}
		return "is outside the networks that this policy allows"
	}
	return Unbelievable(addr, allow)
}

func seconds(n *uint32) time.Duration { return time.Duration(*n) * time.Second }

// longest bounds every time of a policy, in seconds: a year.
const longest = 366 * 86400

// Check returns an error if a policy cannot be kept to.
func (p Policy) Check() error {
	for _, one := range []struct {
		name string
		n    *uint32
	}{{"min_interval", p.MinInterval}, {"hold_down", p.HoldDown}, {"max_hold_down", p.MaxHoldDown}, {"failover", p.Failover}, {"silence", p.Silence}} {
		if one.n != nil && *one.n > longest {
			return fmt.Errorf("%s is %d s; it is at most a year", one.name, *one.n)
		}
	}
	switch {
	case p.SecondSource != nil && !slices.Contains([]Source{NoSource, PeerSource, TokenSource}, *p.SecondSource):
		return fmt.Errorf("second_source is %q; it is none, peer or token", *p.SecondSource)
	case p.OnSilence != nil && !slices.Contains([]Silent{KeepSilent, RemoveSilent, FallbackSilent}, *p.OnSilence):
		return fmt.Errorf("on_silence is %q; it is keep, remove or fallback", *p.OnSilence)
	case p.Failover != nil && *p.Failover < 10:
		return fmt.Errorf("failover is %d s; it is at least 10 s", *p.Failover)
	case p.Silence != nil && *p.Silence != 0 && *p.Silence < 10:
		return fmt.Errorf("silence is %d s; it is 0 for never, or at least 10 s", *p.Silence)
	case p.FallbackV4 != nil && p.FallbackV4.IsValid() && !p.FallbackV4.Is4():
		return fmt.Errorf("fallback_v4 is %s, which is no IPv4 address", p.FallbackV4)
	case p.FallbackV6 != nil && p.FallbackV6.IsValid() && (!p.FallbackV6.Is6() || p.FallbackV6.Is4In6() || p.FallbackV6.Zone() != ""):
		return fmt.Errorf("fallback_v6 is %s, which is no IPv6 address of everybody", p.FallbackV6)
	}
	return nil
}
