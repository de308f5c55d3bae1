package reporter

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"time"
)

// The ports of NAT-PMP and PCP: routers listen on the first, and announce to the group at the second (RFC 6886 section 3.2.1, RFC 6887 section 14).
const (
	RouterPort   = 5351
	AnnouncePort = 5350
)

// Announcements is the group that routers announce another address to.
var Announcements = netip.AddrPortFrom(netip.AddrFrom4([4]byte{224, 0, 0, 1}), AnnouncePort)

// ErrVersion is the answer of a router that knows the other protocol only.
var ErrVersion = errors.New("the router knows another version only")

// AskNATPMP returns the question for a router's address.
func AskNATPMP() []byte { return []byte{0, 0} }

// External is what a router says of itself.
type External struct {
	Addr  netip.Addr    // the zero Addr where its line has none
	Epoch time.Duration // for how long the router knows its mappings
}

// natpmpResults are the codes of RFC 6886 section 3.5.
var natpmpResults = []string{"", "its version is not supported", "it is not permitted", "its line is down", "it has no resources left", "it does not know the question"}

// ReadNATPMP reads an answer to the question for the address, or an announcement of another one.
func ReadNATPMP(b []byte) (e External, err error) {
	if len(b) < 4 || b[0] != 0 && b[0] != 2 || b[1]&0x80 == 0 {
		return e, errors.New("no answer of NAT-PMP")
	}
	result := binary.BigEndian.Uint16(b[2:])
	switch {
	case b[0] == 2 || result == 1:
		return e, ErrVersion
	case b[1] != 128:
		return e, fmt.Errorf("an answer to another question (%d)", b[1]&0x7f)
	case result == 3: // network failure: there is no address
		return e, nil
	case int(result) < len(natpmpResults) && result > 0:
		return e, fmt.Errorf("the router refuses: %s", natpmpResults[result])
	case result > 0:
		return e, fmt.Errorf("the router refuses with code %d", result)
	case len(b) < 12:
		return e, errors.New("an answer of NAT-PMP that is cut off")
	}
	e.Epoch = time.Duration(binary.BigEndian.Uint32(b[4:])) * time.Second
	if a := netip.AddrFrom4([4]byte(b[8:12])); !a.IsUnspecified() {
		e.Addr = a
	}
	return e, nil
}
