package profile

import (
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"beacon/core/change"
	"beacon/core/record"
	"beacon/outcall"
)

// maxFile bounds a profile, in octets.
const maxFile = 256 << 10

var profileName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,30}$`)

// Load reads a profile. It gives every fault that it finds.
func Load(file string, text []byte) (*Profile, []Fault) {
	r := &reader{file: file, lines: strings.Split(string(text), "\n"), known: map[string]bool{}}
	if len(text) > maxFile {
		return nil, []Fault{{file, 1, 1, fmt.Sprintf("a profile has at most %d octets", maxFile), ""}}
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, []Fault{yamlFault(file, err)}
	}
	if len(doc.Content) == 0 {
		return nil, []Fault{{file, 1, 1, "the profile is empty", "See the guide to writing profiles."}}
	}
	p := r.read(doc.Content[0])
	slices.SortStableFunc(r.faults, func(a, b Fault) int {
		if a.Line != b.Line {
			return a.Line - b.Line
		}
		return a.Column - b.Column
	})
	if len(r.faults) > 0 {
		return nil, r.faults
	}
	return p, nil
}

// read reads the profile of a provider, or of a registrar.
func (r *reader) read(root *yaml.Node) *Profile {
	if hasKey(root, "domains") {
		return r.registrar(root)
	}
	return r.profile(root)
}

var yamlLine = regexp.MustCompile(`line (\d+): (.*)`)

func yamlFault(file string, err error) Fault {
	if m := yamlLine.FindStringSubmatch(err.Error()); m != nil {
		line, _ := strconv.Atoi(m[1])
		return Fault{file, line, 1, "this is not YAML: " + m[2], ""}
	}
	return Fault{file, 1, 1, "this is not YAML: " + strings.TrimPrefix(err.Error(), "yaml: "), ""}
}

func (r *reader) profile(root *yaml.Node) *Profile {
	s := r.section(root, "the profile", "!profile", "description", "hosts", "!credential", "session", "limits", "errors", "!can", "!zones", "find", "create", "remove", "look", "!read", "read_name", "!write", "poll", "rights", "soa")
	p := r.common(s)
	if n := s.at["can"]; n != nil {
		p.Caps = r.caps(n)
		if p.targets = r.targets; p.targets == "" {
			p.Questions = append(p.Questions, Fault{r.file, n.Line, n.Column, "it is not said how names in record data are written", "Say so under can: targets: absolute where a name without final dot is complete, zone where it is relative to the zone, record where it is relative to its record."})
		}
	}
	p.Caps.Rate = p.rate
	calls := func(key string, names []string, keys ...string) *call {
		if n := s.at[key]; n != nil {
			return r.call(n, key, names, keys...)
		}
		return nil
	}
	zone := []string{"id", "zone", "fqdn"}
	list := []string{"!each", "next", "start"}
	p.zones = calls("zones", []string{"cursor"}, list...)
	p.find = calls("find", []string{"zone", "fqdn"}, "!each")
	p.create = calls("create", zone[1:], "!one", "body", "type")
	p.remove = calls("remove", zone, "body", "type")
	p.look = calls("look", zone, "!mark")
	p.read = calls("read", append([]string{"cursor"}, zone...), append(list, "mark")...)
	p.readName = calls("read_name", append([]string{"cursor", "label", "name", "host"}, zone...), list...)
	p.poll = calls("poll", append([]string{"receipt"}, zone...), "!done", "failed")
	p.rights = calls("rights", nil, "!each")
	if n := s.at["write"]; n != nil {
		r.write(p, n, zone)
	}
	if n := s.at["soa"]; n != nil {
		p.soa, p.Caps.SOA = r.soa(n, zone)
	}
	r.consistent(p, s)
	return p
}

// common reads the sections that providers and registrars share.
func (r *reader) common(s section) *Profile {
	p := &Profile{Name: s.text("profile"), About: s.text("description")}
	if s.has("profile") && !profileName.MatchString(p.Name) {
		r.fault(s.at["profile"], "Use lower-case letters, digits and hyphens.", "%q is no name of a profile", p.Name)
	}
	if n := s.at["hosts"]; n != nil {
		p.hosts = r.parts(n)
	}
	for _, h := range p.hosts {
		r.hosts = append(r.hosts, h.Name)
	}
	if n := s.at["credential"]; n != nil {
		p.credential = r.credential(n)
	}
	if n := s.at["session"]; n != nil {
		p.session = r.session(n, p.credential)
	}
	if n := s.at["errors"]; n != nil {
		p.errors = r.errorRules(n)
	}
	if n := s.at["limits"]; n != nil {
		l := r.section(n, "limits", "rate", "margin", "parallel", "wait", "remaining", "reset")
		p.rate, p.wait, p.remaining, p.reset = l.rate("rate"), l.expression("wait"), l.expression("remaining"), l.expression("reset")
		if margin := l.number("margin", 90); margin > 0 {
			p.rate *= float64(100-margin) / 100
		}
		p.Caps.Parallel = l.number("parallel", 64)
		if (p.remaining == "") != (p.reset == "") {
			r.fault(n, "Write both: what remains, and in how many seconds there is more.", "remaining and reset belong together")
		}
	}
	return p
}

// hasKey reports whether a mapping has a key.
func hasKey(n *yaml.Node, key string) bool { return valueOf(n, key) != nil }

// write takes either one request for a batch, or one for each kind of change.
func (r *reader) write(p *Profile, n *yaml.Node, zone []string) {
	verbs := []string{"create", "update", "delete"}
	s := section{r, n, "write", map[string]*yaml.Node{}}
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		s.at[n.Content[i].Value] = n.Content[i+1]
	}
	if !s.has("create") && !s.has("update") && !s.has("delete") {
		p.write = r.call(n, "write", zone, "body", "type", "receipt")
		return
	}
	s = r.section(n, "write", "!create", "!update", "!delete")
	p.verbs = map[string]*call{}
	for _, verb := range verbs {
		if n := s.at[verb]; n != nil {
			p.verbs[verb] = r.call(n, "write."+verb, append([]string{"ref", "label", "name", "host", "type"}, zone...), "body", "type", "receipt")
		}
	}
	if p.Caps.BatchSize != 1 || p.Caps.Granularity == change.ByZone {
		r.fault(n, "Say under can: write: records (or sets), and batch: 1.", "a request for each kind of change does one change at a time")
	}
}

func (r *reader) errorRules(n *yaml.Node) errorRules {
	s := r.section(n, "errors", "when", "code", "message", "kinds")
	e := errorRules{when: s.expression("when"), code: s.expression("code"), message: s.expression("message"), kinds: map[string]outcall.Kind{}}
	kinds := []outcall.Kind{outcall.Refused, outcall.Unauthorised, outcall.NotFound, outcall.Conflict, outcall.Limited, outcall.Unavailable}
	if k := s.at["kinds"]; k != nil && k.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(k.Content); i += 2 {
			kind := outcall.Kind(k.Content[i+1].Value)
			if !slices.Contains(kinds, kind) {
				r.fault(k.Content[i+1], "Use refused, unauthorised, not found, conflict, limited or unavailable.", "%q is no kind of failure", kind)
			}
			e.kinds[k.Content[i].Value] = kind
		}
		if e.code == "" {
			r.fault(k, "", "kinds need code, which returns the word to look up")
		}
	}
	return e
}

func (r *reader) caps(n *yaml.Node) change.Caps {
	s := r.section(n, "can", "!write", "batch", "atomic", "page", "ttl", "types", "texts", "owns_apex", "apex_ns", "apex_alias", "delayed", "read_lag", "prefills", "attributes", "targets", "overwrites", "create_lag", "text_max", "name_max", "another")
	c := change.Caps{BatchSize: s.number("batch", 100_000), Atomic: s.flag("atomic"), PageSize: s.number("page", 1_000_000), OwnsApex: s.flag("owns_apex"), ApexNS: s.flag("apex_ns"),
		ApexAlias: s.flag("apex_alias"), Delayed: s.flag("delayed"), Another: s.flag("another"), Prefills: s.flag("prefills")}
	c.Granularity = map[string]change.Granularity{"records": change.ByRecord, "zone": change.ByZone}[s.choice("write", "sets", "records", "zone")]
	c.Texts = map[string]change.TextForm{"joined": change.TextJoined, "single": change.TextSingle}[s.choice("texts", "strings", "joined", "single")]
	r.targets = s.choice("targets", targetsAbsolute, targetsInZone, targetsAtRecord)
	c.ReadLag, c.CreateLag = s.span("read_lag", 10*time.Minute), s.span("create_lag", 10*time.Minute)
	c.Overwrites, c.TextMax, c.NameMax = s.flag("overwrites"), s.number("text_max", 65535), s.number("name_max", 255)
	if t := s.at["ttl"]; t != nil {
		ttl := r.section(t, "can.ttl", "min", "max", "steps")
		c.TTLFloor, c.TTLCeiling = uint32(ttl.number("min", record.MaxTTL)), uint32(ttl.number("max", record.MaxTTL))
		if c.TTLCeiling > 0 && c.TTLCeiling < c.TTLFloor {
			r.fault(t, "", "max is less than min")
		}
		for _, n := range ttl.list("steps") {
			var step uint32
			if n.Decode(&step) != nil || step == 0 || len(c.TTLSteps) > 0 && step <= c.TTLSteps[len(c.TTLSteps)-1] {
				r.fault(n, "", "steps are seconds, rising")
			}
			c.TTLSteps = append(c.TTLSteps, step)
		}
	}
	for _, n := range s.list("types") {
		t, err := record.ParseType(n.Value)
		if err != nil {
			r.fault(n, "", "%q is no record type", n.Value)
		}
		c.Types = append(c.Types, t)
	}
	if len(c.Types) > 0 && !slices.Contains(c.Types, record.A) {
		r.fault(s.at["types"], "Add A, or leave types out where all are taken.", "the types lack A, which every conformance run writes")
	}
	if e := s.at["attributes"]; e != nil {
		c.Attributes = r.attributes(e)
	}
	return c
}

func (r *reader) attributes(n *yaml.Node) (list []change.Attribute) {
	if n.Kind != yaml.MappingNode {
		r.fault(n, "", "attributes are names with what is known about them")
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		s := r.section(n.Content[i+1], "attributes."+n.Content[i].Value, "description", "values", "relay")
		e := change.Attribute{Name: n.Content[i].Value, About: s.text("description"), Relay: s.text("relay")}
		for _, v := range s.list("values") {
			e.Values = append(e.Values, v.Value)
		}
		if e.Relay != "" && !slices.Contains(e.Values, e.Relay) {
			r.fault(s.at["relay"], "", "%q is none of its values", e.Relay)
		}
		list = append(list, e)
	}
	return list
}

var ratePattern = regexp.MustCompile(`^(\d{1,6}) per (second|minute|hour)$`)

// rate takes "60 per minute", and gives requests a second.
func (s section) rate(key string) float64 {
	m := ratePattern.FindStringSubmatch(s.text(key))
	if m == nil {
		if s.has(key) {
			s.fault(s.at[key], "Write it like: 60 per minute.", "%q is no rate", s.text(key))
		}
		return 0
	}
	n, _ := strconv.ParseFloat(m[1], 64)
	return n / map[string]float64{"second": 1, "minute": 60, "hour": 3600}[m[2]]
}

// consistent looks at what sections say together.
func (r *reader) consistent(p *Profile, s section) {
	c := &p.Caps
	c.FixedZones = p.create == nil
	c.ByName = p.readName != nil
	c.Marks = p.look != nil || p.read != nil && p.read.mark != ""
	_, conditional := headerOf(p.write, "If-Match")
	c.Guarded = conditional
	if c.Granularity == change.ByZone && !conditional && p.write != nil && !c.Overwrites {
		r.fault(s.at["write"], `Send the change mark: headers: {If-Match: .mark}. Where the interface has no condition, write can: overwrites: true: the zone is read and compared first, and a change of another client at the same moment is lost.`, "a whole zone must not be replaced without a condition")
	}
	if (p.create == nil) != (p.remove == nil) {
		r.fault(s.node, "Describe both, or neither.", "create and remove belong together")
	}
	receipts := p.write != nil && p.write.receipt != ""
	for _, v := range p.verbs {
		receipts = receipts || v.receipt != ""
	}
	if receipts != (p.poll != nil) {
		r.fault(s.node, "", "receipt (in write) and poll belong together")
	}
	if p.look != nil && p.read != nil && p.read.mark == "" {
		r.fault(s.at["read"], "", "look returns the change mark, so read must return it too (mark)")
	}
	if p.poll != nil {
		c.Delayed = true
	}
}

func headerOf(c *call, name string) (expression, bool) {
	if c == nil {
		return "", false
	}
	for have, e := range c.headers {
		if http.CanonicalHeaderKey(have) == http.CanonicalHeaderKey(name) {
			return e, true
		}
	}
	return "", false
}
