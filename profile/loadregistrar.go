package profile

import (
	"go.yaml.in/yaml/v3"

	"beacon/registrar"
)

// changeKeys are the sections of a registrar's profile that describe changes.
var changeKeys = map[string]registrar.Verb{"nameservers": registrar.Save, "activate": registrar.Activate, "host": registrar.PutHost, "remove_host": registrar.RemoveHost,
	"ds": registrar.SetDS, "lock": registrar.Lock, "unlock": registrar.Unlock}

// registrar reads the profile of a registrar.
func (r *reader) registrar(root *yaml.Node) *Profile {
	s := r.section(root, "the profile", append([]string{"!profile", "description", "hosts", "!credential", "session", "limits", "errors", "can", "!domains", "!domain", "!nameservers", "poll"},
		"activate", "host", "remove_host", "ds", "lock", "unlock")...)
	p := r.common(s)
	c := &registrarCalls{changes: map[registrar.Verb]*call{}}
	p.registrar = c
	domain := []string{"domain", "fqdn"}
	if n := s.at["domains"]; n != nil {
		c.domains = r.call(n, "domains", []string{"cursor"}, "!each", "next", "start")
	}
	if n := s.at["domain"]; n != nil {
		c.domain = r.call(n, "domain", domain, "!one")
	}
	delayed := false
	for key, verb := range changeKeys {
		n := s.at[key]
		if n == nil {
			continue
		}
		names := domain
		switch verb {
		case registrar.PutHost, registrar.RemoveHost:
			names = append([]string{"host"}, domain...)
		case registrar.Lock, registrar.Unlock:
			names = append([]string{"status"}, domain...)
		}
		c.changes[verb] = r.call(n, key, names, "body", "type", "receipt")
		delayed = delayed || c.changes[verb].receipt != ""
	}
	if n := s.at["poll"]; n != nil {
		c.poll = r.call(n, "poll", append([]string{"receipt"}, domain...), "!done", "failed")
	}
	if n := s.at["can"]; n != nil {
		c.caps = r.registrarCaps(n, c)
	}
	c.caps.Activation, c.caps.Delayed = c.changes[registrar.Activate] != nil, c.poll != nil
	c.caps.Hosts, c.caps.Locks = c.changes[registrar.PutHost] != nil, c.changes[registrar.Lock] != nil
	if c.changes[registrar.SetDS] != nil && c.caps.DS == registrar.NoDS {
		c.caps.DS = registrar.Digests
	}
	for _, pair := range [][2]string{{"host", "remove_host"}, {"lock", "unlock"}} {
		if s.has(pair[0]) != s.has(pair[1]) {
			r.fault(s.node, "Describe both, or neither.", "%s and %s belong together", pair[0], pair[1])
		}
	}
	if delayed != (c.poll != nil) {
		r.fault(s.node, "", "receipt (in a change) and poll belong together")
	}
	return p
}

func (r *reader) registrarCaps(n *yaml.Node, c *registrarCalls) (caps registrar.Caps) {
	s := r.section(n, "can", "names", "final_dot", "again", "ds")
	if n := s.at["names"]; n != nil {
		names := r.section(n, "can.names", "min", "max")
		caps.Least, caps.Most = names.number("min", 100), names.number("max", 100)
		if caps.Most > 0 && caps.Least > caps.Most {
			r.fault(n, "", "min is greater than max")
		}
	}
	caps.FinalDot, caps.Again = s.choice("final_dot", "required", "refused"), s.flag("again")
	caps.DS = registrar.DSForm(s.choice("ds", string(registrar.Digests), string(registrar.Keys)))
	if caps.DS != registrar.NoDS && c.changes[registrar.SetDS] == nil {
		r.fault(s.at["ds"], "Describe the request under ds.", "nothing says how a DS set is changed")
	}
	return caps
}
