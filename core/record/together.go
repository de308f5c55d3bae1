package record

// Collide reports whether sets of the two types cannot stand at one name: a CNAME tolerates no other data
// (RFC 1034 section 3.6.2) but what DNSSEC adds beside it (RFC 4035 section 2.5).
func Collide(a, b Type) bool {
	const nsec, rrsig, key = 47, 46, 25
	beside := func(t Type) bool { return t == CNAME || t == nsec || t == rrsig || t == key }
	return a != b && (a == CNAME && !beside(b) || b == CNAME && !beside(a))
}
