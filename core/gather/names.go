package gather

import (
	"strings"

	"beacon/core/dnsname"
	"beacon/core/record"
)

// usualLabels are names that zones often have, relative to the apex: websites, mail and what it is found by, remote access, and services by RFC 2782 and RFC 8552.
var usualLabels = strings.Fields(`www mail smtp imap pop pop3 webmail mx mx1 mx2 relay autodiscover autoconfig ftp sftp ns ns1 ns2 ns3 dns api app apps admin portal shop store blog
	news cdn static assets img images media files download docs help support status dev test staging demo beta m mobile web web1 web2 intranet extranet vpn remote gateway router
	git ci db cloud calendar contacts chat meet sip xmpp conference lists lab proxy server host home cam sensor
	_dmarc _domainkey default._domainkey selector1._domainkey selector2._domainkey s1._domainkey s2._domainkey k1._domainkey k2._domainkey key1._domainkey key2._domainkey
	dkim._domainkey mail._domainkey mx._domainkey
	_mta-sts mta-sts _smtp._tls _adsp._domainkey _report._dmarc _acme-challenge _acme-challenge.www _dnslink
	_autodiscover._tcp _submission._tcp _submissions._tcp _imap._tcp _imaps._tcp _pop3._tcp _pop3s._tcp _sieve._tcp _caldav._tcp _caldavs._tcp _carddav._tcp _carddavs._tcp
	_sip._tcp _sip._udp _sips._tcp _xmpp-client._tcp _xmpp-server._tcp _xmpps-client._tcp _turn._udp _stun._udp _ldap._tcp _kerberos._udp _kerberos._tcp _kerberos _kpasswd._udp
	_443._tcp _25._tcp _443._tcp.www _25._tcp.mail _http._tcp _https._tcp _ntp._udp _ssh._tcp _dns-sd._udp b._dns-sd._udp`)

// Types that a name is asked for, by where it is.
var (
	usualTypes   = types("A AAAA MX TXT CAA HTTPS")
	apexTypes    = types("A AAAA MX TXT CAA HTTPS SVCB SRV NAPTR SSHFP LOC HINFO RP PTR DNAME SPF TLSA URI CERT")
	rareTypes    = types("SRV SSHFP NAPTR LOC SVCB PTR")
	serviceTypes = types("TXT SRV TLSA SVCB HTTPS URI PTR SMIMEA OPENPGPKEY A AAAA")
)

func types(text string) (list []record.Type) {
	for _, word := range strings.Fields(text) {
		t, err := record.ParseType(word)
		if err != nil {
			panic(err) // our own list
		}
		list = append(list, t)
	}
	return list
}

// typesFor returns what a name that exists is asked for.
func typesFor(zone, name dnsname.Name) []record.Type {
	switch {
	case name == zone:
		return apexTypes
	case strings.Contains("."+name.Relative(zone), "._"):
		return serviceTypes
	}
	return append(append([]record.Type(nil), usualTypes...), rareTypes...)
}

// namesIn returns the names at or below the zone that data of a set leads to.
func namesIn(zone dnsname.Name, set record.Set) (list []dnsname.Name) {
	add := func(text string) {
		if name, err := dnsname.Parse(strings.TrimSuffix(text, ".") + "."); err == nil && name.IsBelow(zone) {
			list = append(list, name)
		}
	}
	for _, d := range set.Data {
		fields := strings.Fields(string(d))
		if set.Type != record.TXT {
			for _, f := range fields {
				if strings.HasSuffix(f, ".") {
					add(f)
				}
			}
			continue
		}
		for _, f := range fields { // SPF (RFC 7208 section 5) names hosts and other sets
			_, name, found := strings.Cut(strings.Trim(f, `"`), ":")
			if _, value, redirect := strings.Cut(strings.Trim(f, `"`), "redirect="); redirect {
				name, found = value, true
			}
			if found {
				add(name)
			}
		}
	}
	if set.Type == record.MX { // where its certificate may be pinned (RFC 7672)
		for _, name := range list {
			if pinned, err := dnsname.ParseRelative("_25._tcp", name); err == nil {
				list = append(list, pinned)
			}
		}
	}
	return list
}
