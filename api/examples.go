package api

import (
	"net/netip"
	"reflect"
	"strings"
	"time"

	"beacon/core/access"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// exampleOf returns an example of a scalar field, or nil where its parts have examples of their own.
func exampleOf(t reflect.Type, name string) any {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t {
	case reflect.TypeFor[time.Time]():
		return "2030-03-01T12:00:00Z"
	case reflect.TypeFor[dnsname.Name]():
		return "saltmarsh-ferries.example."
	case reflect.TypeFor[record.Type]():
		return "A"
	case reflect.TypeFor[record.Data]():
		return "192.0.2.40"
	case reflect.TypeFor[access.Action]():
		return "see"
	case reflect.TypeFor[access.Role]():
		return "editor"
	case reflect.TypeFor[access.TokenKind]():
		return "token"
	case reflect.TypeFor[access.Zones]():
		return "saltmarsh-ferries.example"
	case reflect.TypeFor[access.Names]():
		return "_acme-challenge"
	case reflect.TypeFor[netip.Prefix]():
		return "192.0.2.0/24"
	case reflect.TypeFor[finding.Severity]():
		return "warning"
	}
	switch {
	case t.Implements(textType):
		if text, ok := examples[name]; ok {
			return text
		}
		return "192.0.2.40"
	case t.Kind() == reflect.Slice:
		inner := exampleOf(t.Elem(), name)
		if inner == nil || t.Elem().Kind() == reflect.Slice {
			return nil
		}
		return []any{inner}
	case t.Kind() == reflect.Bool:
		return true
	case t.Kind() == reflect.String:
		if text, ok := examples[name]; ok {
			return text
		}
		return "web"
	case t.Kind() == reflect.Struct, t.Kind() == reflect.Map, t.Kind() == reflect.Interface:
		return nil
	case t.Kind() == reflect.Float64:
		return 1.5
	}
	if n, ok := numbers[name]; ok {
		return n
	}
	return 7
}

// examples are texts by the names of fields.
var examples = func() map[string]string {
	list := map[string]string{}
	for line := range strings.Lines(`
account heron-main
action zone.synced
actor admin
additional ns1.heron.test. 3600 IN A 127.18.0.2
address http://127.0.0.1:5380
agree 3f9ac01be2d477a0
allow many-changes
answer answer
asked saltmarsh-ferries.example. NS
author admin
authority saltmarsh-ferries.example. 3600 IN NS ns1.heron.test.
broken example.
caa 0 issue "ca.example"
check zones
code nameserver-silent
created_by admin
cursor saltmarsh-ferries.example.
data 192.0.2.40
description Ferries and their timetables
detail Zone saltmarsh-ferries.example: 24 record sets in sync.
digest 3f9ac01be2d477a0
distrust The answer was empty.
dnssec secure
drift revert
ends 2030-03-01
example www
except www A
expect 3f9ac01be2d477a0
explain Only the address: no scheme, no port.
explained Stale Answer
failure no answer in time
file saltmarsh-ferries.beacon.yaml
from plover-old
granularity set
gravest nameserver-silent
group crew
id 7
ignore _acme-challenge.** TXT
issuer Practice Authority
items web
kind heron
kind_description A practice provider with record sets
kits web
label IPv4 address
lacks zones:write
leads www.harbour.example
left www A
left_out It belongs to the provider that the file came from.
managed_by saltmarsh-ferries.beacon.yaml
means The IPv4 address of a host.
message Nothing differs.
mind brief-outage
name www
names saltmarsh-ferries.example
nameservers ns1.heron.test
new 192.0.2.41
new_providers heron-main
next saltmarsh-ferries.example.
no_tcp connection refused
notes type-unsupported
ns ns1.heron.test.
old 192.0.2.40
organization Saltmarsh Ferries
outcome done
over udp
override many-changes
parent ns1.plover.test
password correct-horse-battery
peer 198.51.100.7
print 60cc9e18
problem no answer in time
protect @ MX
providers heron-main
rcode NOERROR
reason The web host moves.
registrar gannet-main
relay on
remedy Look whether the server is up.
requested_by admin
rights read
role provider
saved ns1.heron.test
say says
says NOERROR, authoritative
secret heron-practice-key
seen 192.0.2.40
sees 192.0.2.40
set www A
severity warning
sites www
skipped old.beacon.yaml
source draft
state settled
status active
steps write www A
strange 127.0.0.9:53
subject saltmarsh-ferries.example.
tag 3f9ac01be2d477a0
text v=spf1 mx -all
texts v=spf1 mx -all
through ns1.heron.test
title Not here
to 192.0.2.41
token bcn_example
trouble no answer in time
truncated saltmarsh-ferries.example. DNSKEY
ttl 3600
type A
types A
unknown no answer in time
unsynced saltmarsh-ferries.example
v4 198.51.100.7
v6 2001:db8::7
value on
values on
verdict settled
wanted ns1.heron.test
websites www
what delegation
who resolver A
why The set differs in its data.
zone saltmarsh-ferries.example
`) {
		if name, text, ok := strings.Cut(strings.TrimSpace(line), " "); ok {
			list[name] = text
		}
	}
	return list
}()

// numbers are numbers by the names of fields.
var numbers = map[string]int{"ttl": 3600, "old_ttl": 3600, "new_ttl": 300, "ns_ttl": 3600, "negative": 300, "refresh": 7200, "retry": 900, "expire": 1209600, "ttl_floor": 60,
	"serial": 2030030101, "status": 404, "limit": 100, "page_size": 100, "batch_size": 50, "line": 12, "column": 5, "version": 1, "most": 65535, "read_lag": 2, "took": 240, "took_ms": 240}
