package profile

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"beacon/core/dnsname"
	"beacon/core/record"
	"beacon/outcall"
	"beacon/provider"
	"beacon/registrar"
)

// registrarCalls are the requests of a registrar's interface.
type registrarCalls struct {
	caps    registrar.Caps
	domains *call
	domain  *call
	changes map[registrar.Verb]*call
	poll    *call
}

// Registrar drives one registrar account through a profile.
type Registrar struct{ *caller }

// NewRegistrar makes a driver for the registrar account that the client belongs to.
func NewRegistrar(p *Profile, runtime *Runtime, client outcall.Client) *Registrar {
	return &Registrar{newCaller(p, runtime, client)}
}

// Caps returns what the profile says.
func (d *Registrar) Caps() registrar.Caps { return d.profile.registrar.caps }

// Domains lists a page of registrations.
func (d *Registrar) Domains(ctx context.Context, cursor registrar.Cursor) (page registrar.Page, err error) {
	c := d.profile.registrar.domains
	rest, offset := splitCursor(c, string(cursor))
	a, err := d.do(ctx, c, question{cursor: rest, offset: offset, body: writeShape{Registration: &registrationShape{}}})
	if err != nil {
		return page, err
	}
	items, err := d.results(ctx, "each", c.each, a)
	if err != nil {
		return page, err
	}
	for _, item := range items {
		r, err := readRegistration(item)
		if err != nil {
			return page, d.client.Unreadable(a.asked, err)
		}
		page.Registrations = append(page.Registrations, r)
	}
	next, err := d.following(ctx, c, a, offset, len(items))
	page.Next = registrar.Cursor(next)
	return page, err
}

// Look returns one registration.
func (d *Registrar) Look(ctx context.Context, name dnsname.Name) (r registrar.Registration, err error) {
	c := d.profile.registrar.domain
	a, err := d.do(ctx, c, question{zone: provider.ZoneRef{Name: name}, body: writeShape{Registration: &registrationShape{}}})
	if err != nil {
		return r, err
	}
	items, err := d.results(ctx, "one", c.one, a)
	if err != nil {
		return r, err
	}
	if len(items) == 0 { // an interface that has lists only
		return r, &outcall.Error{Kind: outcall.NotFound, Outcome: outcall.NotDone, Account: d.client.Account, Asked: a.asked, Said: "the account does not hold " + dnsname.Short(name)}
	}
	if len(items) > 1 {
		return r, d.client.Unreadable(a.asked, fmt.Errorf("%d domains in the answer, not one", len(items)))
	}
	r, err = readRegistration(items[0])
	if err == nil && r.Name != name {
		err = fmt.Errorf("it is about %s", r.Name)
	}
	if err != nil {
		return r, d.client.Unreadable(a.asked, err)
	}
	return r, nil
}

// Apply makes one change.
func (d *Registrar) Apply(ctx context.Context, name dnsname.Name, change registrar.Change) (registrar.Receipt, error) {
	c := d.profile.registrar.changes[change.Do]
	if c == nil && change.Do == registrar.Activate { // what is saved is active
		return registrar.Receipt{Done: true}, nil
	}
	if c == nil {
		return registrar.Receipt{}, d.cannot(fmt.Sprintf("the interface has nothing for %q", change.Do))
	}
	q := question{zone: provider.ZoneRef{Name: name}, names: map[string]string{"host": plain(change.Host.Name), "status": statusCode(change.Status)}}
	q.body.Registration = shapeChange(name, change)
	a, err := d.do(ctx, c, q)
	if err != nil {
		return registrar.Receipt{}, err
	}
	id, err := d.scalar(ctx, "receipt", c.receipt, a)
	return registrar.Receipt{ID: id, Done: err == nil && id == ""}, err
}

// Poll asks what became of an operation.
func (d *Registrar) Poll(ctx context.Context, name dnsname.Name, r registrar.Receipt) (registrar.Receipt, error) {
	c := d.profile.registrar.poll
	if c == nil || r.ID == "" {
		return registrar.Receipt{Done: true}, nil
	}
	done, err := d.polled(ctx, c, question{zone: provider.ZoneRef{Name: name}, receipt: r.ID}, outcall.NotDone)
	r.Done = done
	return r, err
}

// registrationShape is what expressions that make the body of a change are given.
type registrationShape struct {
	Nameservers []nameShape  `json:"nameservers"`
	Host        *hostShape   `json:"host"`
	DS          []dsShape    `json:"ds"`
	Keys        []dsKeyShape `json:"keys"`
	Status      string       `json:"status"`      // in the words of RFC 8056
	StatusCode  string       `json:"status_code"` // as EPP writes it (RFC 5731 section 2.3), such as clientHold
}

type hostShape struct {
	nameShape
	Addresses []string `json:"addresses"`
	V4        []string `json:"v4"`
	V6        []string `json:"v6"`
}

// dsShape and dsKeyShape are DS and DNSKEY data (RFC 4034), field by field and as a whole.
type dsShape struct {
	Tag        int    `json:"tag"`
	Algorithm  int    `json:"algorithm"`
	DigestType int    `json:"digest_type"`
	Digest     string `json:"digest"`
	Value      string `json:"value"`
}

type dsKeyShape struct {
	Flags     int    `json:"flags"`
	Protocol  int    `json:"protocol"`
	Algorithm int    `json:"algorithm"`
	Key       string `json:"key"`
	Value     string `json:"value"`
}

func shapeChange(domain dnsname.Name, c registrar.Change) *registrationShape {
	s := &registrationShape{Nameservers: []nameShape{}, DS: []dsShape{}, Keys: []dsKeyShape{}, Status: c.Status, StatusCode: statusCode(c.Status)}
	for _, n := range c.Nameservers {
		s.Nameservers = append(s.Nameservers, nameShape{Name: n.String(), Host: plain(n)})
	}
	if !c.Host.Name.IsZero() {
		h := &hostShape{nameShape: shapeName(c.Host.Name, domain), Addresses: []string{}, V4: []string{}, V6: []string{}}
		for _, a := range c.Host.Addresses {
			h.Addresses = append(h.Addresses, a.String())
			if a.Is4() {
				h.V4 = append(h.V4, a.String())
			} else {
				h.V6 = append(h.V6, a.String())
			}
		}
		s.Host = h
	}
	number := func(text string) int { n, _ := strconv.Atoi(text); return n } // fields of data that was parsed
	for _, d := range c.DS {
		if f := strings.Fields(string(d)); len(f) >= 4 {
			s.DS = append(s.DS, dsShape{number(f[0]), number(f[1]), number(f[2]), strings.Join(f[3:], ""), string(d)})
		}
	}
	for _, k := range c.Keys {
		if f := strings.Fields(string(k)); len(f) >= 4 {
			s.Keys = append(s.Keys, dsKeyShape{number(f[0]), number(f[1]), number(f[2]), strings.Join(f[3:], ""), string(k)})
		}
	}
	return s
}

// registrationItem is a registration as an expression returns it.
type registrationItem struct {
	Name    string            `json:"name"`
	Active  []string          `json:"active"`
	Saved   []string          `json:"saved"` // the active list where it is missing
	Expires word              `json:"expires"`
	Status  []string          `json:"status"`
	Reasons map[string]string `json:"reasons"`
	Hosts   []struct {
		Name      string   `json:"name"`
		Addresses []string `json:"addresses"`
	} `json:"hosts"`
	DS      []string `json:"ds"`
	Keys    []string `json:"keys"`
	Pending []struct {
		ID   word   `json:"id"`
		What string `json:"what"`
	} `json:"pending"`
}

func readRegistration(text json.RawMessage) (r registrar.Registration, err error) {
	var item registrationItem
	if err := json.Unmarshal(text, &item); err != nil {
		return r, fmt.Errorf("%w: %.200s", err, text)
	}
	if r, err = item.registration(); err != nil {
		return r, fmt.Errorf("%w: %.200s", err, text)
	}
	return r, nil
}

func (i registrationItem) registration() (r registrar.Registration, err error) {
	if i.Name == "" {
		return r, fmt.Errorf("a domain needs a name")
	}
	if r.Name, err = dnsname.Parse(i.Name); err != nil {
		return r, err
	}
	if r.Active, err = dnsname.ParseSet(i.Active); err != nil {
		return r, err
	}
	if r.Saved, err = dnsname.ParseSet(i.Saved); err != nil {
		return r, err
	}
	if i.Saved == nil {
		r.Saved = slices.Clone(r.Active)
	}
	if r.Expires, err = readDay(string(i.Expires)); err != nil {
		return r, err
	}
	for _, s := range i.Status {
		r.Status = append(r.Status, statusWords(s))
	}
	for s, why := range i.Reasons {
		if why != "" {
			if r.Reasons == nil {
				r.Reasons = map[string]string{}
			}
			r.Reasons[statusWords(s)] = why
		}
	}
	for _, h := range i.Hosts {
		host, err := readHost(h.Name, h.Addresses)
		if err != nil {
			return r, err
		}
		r.Hosts = append(r.Hosts, host)
	}
	slices.SortFunc(r.Hosts, func(a, b registrar.Host) int { return a.Name.Compare(b.Name) })
	if r.DS, err = readData(record.DS, i.DS); err != nil {
		return r, err
	}
	if r.Keys, err = readData(record.DNSKEY, i.Keys); err != nil {
		return r, err
	}
	for _, p := range i.Pending {
		r.Pending = append(r.Pending, registrar.Operation{ID: string(p.ID), What: p.What})
	}
	return r, nil
}

func readHost(name string, addresses []string) (h registrar.Host, err error) {
	if h.Name, err = dnsname.Parse(name); err != nil {
		return h, err
	}
	for _, text := range addresses {
		a, err := netip.ParseAddr(text)
		if err != nil {
			return h, err
		}
		h.Addresses = append(h.Addresses, a)
	}
	slices.SortFunc(h.Addresses, netip.Addr.Compare)
	return h, nil
}

func readData(t record.Type, texts []string) (list []record.Data, err error) {
	for _, text := range texts {
		d, err := record.ParseData(t, text, dnsname.Root)
		if err != nil {
			return nil, err
		}
		list = append(list, d)
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}

// readDay reads when a registration ends: a moment (RFC 3339) or a day.
func readDay(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	for _, form := range []string{time.RFC3339, time.DateOnly} {
		if at, err := time.Parse(form, text); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no moment like 2031-01-02T03:04:05Z and no day like 2031-01-02", text)
}

// statusWords writes a status of EPP in the words of RFC 8056: clientHold is "client hold". Words stay as they are.
func statusWords(code string) string {
	if code == "ok" {
		return "active"
	}
	if strings.ContainsRune(code, ' ') {
		return strings.ToLower(code)
	}
	var b strings.Builder
	for _, r := range code {
		if unicode.IsUpper(r) {
			b.WriteByte(' ')
		}
		b.WriteRune(unicode.ToLower(r))
	}
	return strings.TrimSpace(strings.ReplaceAll(b.String(), "_", " "))
}

// statusCode writes words of RFC 8056 as EPP does.
func statusCode(words string) string {
	if words == "active" {
		return "ok"
	}
	parts := strings.Fields(words)
	for i, p := range parts[min(1, len(parts)):] {
		parts[i+1] = strings.ToUpper(p[:1]) + p[1:]
	}
	return strings.Join(parts, "")
}
