package primary

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"time"

	"github.com/miekg/dns"

	"beacon/core/dnsname"
	"beacon/reach"
)

// Notifier notifies secondaries that a zone has changed, and asks them how far they are.
type Notifier struct {
	Door *reach.Door
	// The key to sign with.
	Algorithm, KeyName, Secret string
}

// noticeTries is how often a notification is sent that nobody confirms (RFC 1996 section 3.6 asks for up to five).
const (
	noticeTries = 4
	noticeWait  = 700 * time.Millisecond
)

// Notify sends a notification of a zone's serial until it is confirmed.
func (n Notifier) Notify(ctx context.Context, to netip.AddrPort, zone Zone) error {
	m := new(dns.Msg).SetNotify(zone.Name.String())
	m.Authoritative, m.Answer = true, []dns.RR{zone.soa()}
	res, err := n.exchange(ctx, to, m)
	if err == nil && res.Rcode != dns.RcodeSuccess {
		err = fmt.Errorf("%s answers %s to a notification; does it know us as its primary?", to, dns.RcodeToString[res.Rcode])
	}
	return err
}

// Serial asks a server which serial of a zone it serves; false where it serves none.
func (n Notifier) Serial(ctx context.Context, at netip.AddrPort, name dnsname.Name) (uint32, bool, error) {
	res, err := n.exchange(ctx, at, new(dns.Msg).SetQuestion(name.String(), dns.TypeSOA))
	if err != nil {
		return 0, false, err
	}
	for _, rr := range res.Answer {
		if soa, ok := rr.(*dns.SOA); ok && res.Authoritative && res.Rcode == dns.RcodeSuccess {
			return soa.Serial, true, nil
		}
	}
	return 0, false, nil
}

// exchange sends a message over UDP until an answer comes. A notification is signed; a question, which anybody may ask,
// is not.
func (n Notifier) exchange(ctx context.Context, to netip.AddrPort, m *dns.Msg) (*dns.Msg, error) {
	packets, err := n.Door.ListenPackets()
	if err != nil {
		return nil, err
	}
	defer packets.Close()
	stop := context.AfterFunc(ctx, func() { _ = packets.SetReadDeadline(time.Now()) })
	defer stop()
	for range noticeTries {
		var b []byte
		if m.Opcode == dns.OpcodeNotify {
			signed := m.Copy()
			signed.SetTsig(n.KeyName, n.Algorithm, 300, time.Now().Unix())
			b, _, err = dns.TsigGenerateWithProvider(signed, hmacKey{secret: n.Secret}, "", false)
		} else {
			b, err = m.Pack()
		}
		if err != nil {
			return nil, err
		}
		if err := packets.Send(b, to); err != nil {
			return nil, err
		}
		_ = packets.SetReadDeadline(time.Now().Add(noticeWait))
		if res := read(packets.UDPConn, to, m); res != nil {
			return res, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return nil, fmt.Errorf("%s does not answer", to)
}

// read returns the answer to m from an address, or nil when the time is up.
func read(conn *net.UDPConn, from netip.AddrPort, m *dns.Msg) *dns.Msg {
	buffer := make([]byte, 4096)
	for {
		size, at, err := conn.ReadFromUDPAddrPort(buffer)
		if err != nil {
			return nil
		}
		res := new(dns.Msg)
		if at.Port() == from.Port() && at.Addr().Unmap() == from.Addr().Unmap() && res.Unpack(buffer[:size]) == nil && res.Id == m.Id && res.Response {
			return res
		}
	}
}
