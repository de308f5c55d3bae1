// Package zonefile reads and writes master files (RFC 1035 section 5, RFC 2308 section 4 for $TTL).
//
// Read goes through the whole text and reports every fault with its line and column; it never stops at the first one.
// lex.go cuts text into entries, read.go makes records of them (include.go and generate.go do two directives), write.go and
// forms.go print a zone so that equal zones are equal files. The data of single records is left to core/record.
package zonefile
