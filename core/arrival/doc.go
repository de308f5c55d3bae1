// Package arrival judges whether the sites of a domain have arrived: whether the names that carry one lead to where they
// shall, whether something answers there over both networks and both schemes, whether its certificate is right, and
// whether an authority would issue one.
//
// It is pure: Evidence goes in, a Report comes out. judge.go says where names lead, contacts.go what answered there,
// certificates.go what of that concerns certificates, caa.go what CAA records permit (RFC 8659), and ready.go whether an
// authority could convince itself (RFC 8555 sections 8.3 and 8.4).
package arrival
