package reporter

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"time"
)

// Mapping is a mapping that is asked for, to see from which address it is made (RFC 6887 section 11).
type Mapping struct {
	Client   netip.Addr // of this machine towards the router
	Nonce    [12]byte
	Port     uint16        // of this machine; a UDP port that nobody listens on any more afterwards
	Lifetime time.Duration // 0 takes the mapping back
}

const (
	pcpVersion  = 2
	pcpMap      = 1
	protocolUDP = 17
)

// AskPCP returns the request for a mapping.
func AskPCP(m Mapping) []byte {
	b := make([]byte, 60)
	b[0], b[1] = pcpVersion, pcpMap
	binary.BigEndian.PutUint32(b[4:], uint32(m.Lifetime/time.Second))
	client := m.Client.As16()
	copy(b[8:], client[:])
	copy(b[24:], m.Nonce[:])
	b[36] = protocolUDP
	binary.BigEndian.PutUint16(b[40:], m.Port)
	any4 := netip.MustParseAddr("::ffff:0.0.0.0").As16()
	copy(b[44:], any4[:])
	return b
}

// pcpResults are the codes of RFC 6887 section 7.4.
var pcpResults = []string{"", "its version is not supported", "it is not permitted", "the request is malformed", "it does not know the request", "it does not know an option", "an option is malformed",
	"its line is down", "it has no resources left", "it does not know the protocol", "too many mappings", "it cannot provide the external address", "this machine's address is translated on the way to it",
	"too many remote peers"}

// ReadPCP reads the answer to a request for a mapping.
func ReadPCP(b []byte, m Mapping) (e External, err error) {
	switch {
	case len(b) < 4 || b[1]&0x80 == 0:
		return e, errors.New("no answer of PCP")
	case b[0] != pcpVersion:
		return e, ErrVersion
	case b[3] == 1:
		return e, ErrVersion
	case len(b) < 24:
		return e, errors.New("an answer of PCP that is cut off")
	case b[1]&0x7f != pcpMap:
		return e, fmt.Errorf("an answer to another request (%d)", b[1]&0x7f)
	case b[3] == 7: // network failure: there is no address
		return e, nil
	case int(b[3]) < len(pcpResults) && b[3] > 0:
		return e, fmt.Errorf("the router refuses: %s", pcpResults[b[3]])
	case b[3] > 0:
		return e, fmt.Errorf("the router refuses with code %d", b[3])
	case len(b) < 60:
		return e, errors.New("an answer of PCP that is cut off")
	case [12]byte(b[24:36]) != m.Nonce || b[36] != protocolUDP || binary.BigEndian.Uint16(b[40:]) != m.Port:
		return e, errors.New("an answer to another mapping")
	}
	e.Epoch = time.Duration(binary.BigEndian.Uint32(b[8:])) * time.Second
	if a := netip.AddrFrom16([16]byte(b[44:60])).Unmap(); !a.IsUnspecified() {
		e.Addr = a
	}
	return e, nil
}
