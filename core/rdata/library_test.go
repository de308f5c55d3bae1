package rdata

import (
	"slices"
	"strings"
	"testing"

	"github.com/miekg/dns"
	"pgregory.net/rapid"
)

// elsewhere are the types whose form differs from the wire library's, and why.
var elsewhere = map[uint16]string{
	dns.TypeX25:   "it prints the number without quotes, and reads text for digits",
	dns.TypeISDN:  "it prints an empty sub-address where there is none",
	dns.TypeNXT:   "it has the bitmap of NSEC, which NXT has not (RFC 2535 section 5.2)",
	dns.TypeATMA:  "it has no form for it",
	dns.TypeSVCB:  `it writes no-default-alpn="", which has no value (RFC 9460 section 7.1.1), and reads values that contradict each other`,
	dns.TypeHTTPS: "as SVCB",
	dns.TypeLOC:   "it has the equator in the south, and lets seconds lose places",
	dns.TypeRRSIG: "it prints times near the present day, whatever they are (RFC 4034 section 3.1.5)", dns.TypeSIG: "as RRSIG",
	dns.TypeGPOS: "it prints any text", dns.TypeKEY: "it reads keys against their flags", dns.TypeURI: "it leaves a backslash as it is",
	dns.TypeCAA: "it leaves a backslash as it is", dns.TypeNAPTR: "it leaves quotes as they are",
}

// Octets that both the wire library and we read have one text, so that what is stored does not change with the reader.
func TestFormIsTheLibrarys(t *testing.T) {
	numbers := make([]uint16, 0, len(types))
	for n := range types {
		if _, apart := elsewhere[n]; !apart && dns.TypeToRR[n] != nil {
			numbers = append(numbers, n)
		}
	}
	slices.Sort(numbers)
	compared := map[uint16]int{}
	rapid.Check(t, func(t *rapid.T) {
		for _, n := range numbers {
			wire := drawWire(t, n)
			ours, err := Print(n, wire)
			if err != nil {
				continue
			}
			header := dns.RR_Header{Name: ".", Rrtype: n, Class: dns.ClassINET, Rdlength: uint16(len(wire))}
			rr, _, err := dns.UnpackRRWithHeader(header, wire, 0)
			if err != nil {
				continue
			}
			theirs := strings.TrimPrefix(rr.String(), rr.Header().String())
			if strings.HasPrefix(ours, `\#`) || strings.ContainsAny(ours+theirs, `\'$`) || strings.Contains(theirs, "NXNAME") || strings.Contains(theirs, "Reserved") {
				continue
			}
			if low := strings.EqualFold(ours, theirs); !low {
				t.Fatalf("%s %x: %q, and the library has %q", TypeName(n), wire, ours, theirs)
			}
			compared[n]++
		}
	})
	for _, n := range numbers {
		if compared[n] == 0 && n != dns.TypeAPL {
			t.Errorf("no %s data were compared", TypeName(n))
		}
	}
}

// drawWire draws octets that may be data of type n.
func drawWire(t *rapid.T, n uint16) []byte {
	label := rapid.StringMatching(`[a-zA-Z0-9_-]{1,12}`)
	name := func() (out []byte) {
		for range rapid.IntRange(0, 3).Draw(t, "labels") {
			l := label.Draw(t, "label")
			out = append(append(out, byte(len(l))), l...)
		}
		return append(out, 0)
	}
	octets := func(size int) []byte { return rapid.SliceOfN(rapid.Byte(), size, size).Draw(t, "octets") }
	str := func() []byte {
		s := rapid.StringMatching(`[ -~]{0,20}`).Draw(t, "text")
		return append([]byte{byte(len(s))}, s...)
	}
	switch n {
	case dns.TypeTXT, dns.TypeSPF, dns.TypeAVC, dns.TypeNINFO, dns.TypeRESINFO, dns.TypeUINFO:
		return str()
	case dns.TypeHINFO:
		return append(str(), str()...)
	case dns.TypeSOA:
		return append(append(name(), name()...), octets(20)...)
	case dns.TypeMX, dns.TypeKX, dns.TypeRT, dns.TypeAFSDB, dns.TypeLP:
		return append(octets(2), name()...)
	case dns.TypePX:
		return append(append(octets(2), name()...), name()...)
	case dns.TypeSRV:
		return append(octets(6), name()...)
	case dns.TypeMINFO, dns.TypeRP, dns.TypeTALINK:
		return append(name(), name()...)
	case dns.TypeNSEC:
		return append(name(), 0, 2, 0x40, 1, 1, 1, byte(rapid.IntRange(1, 255).Draw(t, "bits")))
	case dns.TypeCSYNC:
		return append(octets(6), 0, 1, 0x40)
	case dns.TypeNSEC3:
		return slices.Concat(octets(4), []byte{2}, octets(2), []byte{20}, octets(20), []byte{0, 1, 0x20})
	case dns.TypeNSEC3PARAM:
		return append(append(octets(4), 3), octets(3)...)
	case dns.TypeDS, dns.TypeCDS, dns.TypeDLV, dns.TypeTA:
		return append(append(octets(3), 2), octets(32)...)
	case dns.TypeSSHFP:
		return append(append(octets(1), 1), octets(20)...)
	case dns.TypeTLSA, dns.TypeSMIMEA:
		return append(append(octets(2), 1), octets(32)...)
	case dns.TypeZONEMD:
		return append(append(octets(5), 1), octets(48)...)
	case dns.TypeIPSECKEY:
		return slices.Concat(octets(1), []byte{1, 2}, octets(4), octets(8))
	case dns.TypeAMTRELAY:
		return slices.Concat(octets(1), []byte{3}, name())
	case dns.TypeHIP:
		return slices.Concat([]byte{4}, octets(1), []byte{0, 5}, octets(9), name())
	case dns.TypeA, dns.TypeUID, dns.TypeGID:
		return octets(4)
	case dns.TypeAAAA:
		return octets(16)
	case dns.TypeL32, dns.TypeEUI48:
		return octets(6)
	case dns.TypeNID, dns.TypeL64:
		return octets(10)
	case dns.TypeEUI64:
		return octets(8)
	case dns.TypeCERT, dns.TypeDNSKEY, dns.TypeCDNSKEY, dns.TypeRKEY, dns.TypeOPENPGPKEY, dns.TypeDHCID, dns.TypeEID, dns.TypeNIMLOC:
		return octets(12)
	}
	return name()
}
