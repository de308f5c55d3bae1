package access

import (
	"encoding/base32"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"regexp"
	"slices"
	"strings"
	"time"
)

// TokenKind is what a token is for.
type TokenKind string

// The kinds of tokens.
const (
	SessionToken TokenKind = "session" // a user who signed in
	MachineToken TokenKind = "token"   // a script or another machine
	HostToken    TokenKind = "host"    // a dynamic host that reports its address
	FirstCode    TokenKind = "first"   // the link of a first start
)

var prefixes = map[TokenKind]string{SessionToken: "abs_", MachineToken: "abt_", HostToken: "abh_", FirstCode: "abf_"}

// TokenPattern matches the text of every token, for programs that look for secrets. Known is the exact test.
const TokenPattern = `ab[sthf]_[a-z2-7]{59}`

var tokenText = regexp.MustCompile(`^` + TokenPattern + `$`)

// secretSize is how many random octets a token has.
const secretSize = 32

var letters = base32.NewEncoding("abcdefghijklmnopqrstuvwxyz234567").WithPadding(base32.NoPadding)

// TokenText returns the text of a token: a prefix that says what kind it is, 32 random octets in base32, and the CRC-32 of what stands before.
func TokenText(kind TokenKind, secret [secretSize]byte) string {
	text := prefixes[kind] + letters.EncodeToString(secret[:])
	return text + checksum(text)
}

func checksum(text string) string {
	return letters.EncodeToString(binary.BigEndian.AppendUint32(nil, crc32.ChecksumIEEE([]byte(text))))
}

// Known reports whether a text has the form of a token with a right checksum.
func Known(text string) bool {
	const sum = 7 // characters of the checksum
	return tokenText.MatchString(text) && checksum(text[:len(text)-sum]) == text[len(text)-sum:]
}

// shown is how many characters of a token are kept to recognise it by: the prefix and 30 bits.
const shown = 10

// TokenBegins returns the part of a token by which it is recognised in a list.
func TokenBegins(text string) string { return text[:min(shown, len(text))] }

// Usage is what is known of how a token is used.
type Usage struct {
	Made     time.Time
	LastUsed time.Time // zero for never
	Expires  time.Time // zero for never
	Networks int       // how many networks it may come from; 0 for all
	Used     []Action  // that it has used
}

// unusedAfter is after how long without use a token is pointed out; settledAfter is after how long the actions that it has used say what it needs.
const (
	unusedAfter  = 90 * 24 * time.Hour
	settledAfter = 14 * 24 * time.Hour
)

// Doubts returns what speaks against a token as it is: that it is not used, or may more than it does. It is empty for a good one.
func Doubts(grants []Grant, u Usage, now time.Time) (list []string) {
	last, age := u.LastUsed, now.Sub(u.Made)
	if last.IsZero() {
		last = u.Made
	}
	if unused := now.Sub(last); unused >= unusedAfter {
		list = append(list, fmt.Sprintf("Not used for %d days: revoke it.", int(unused.Hours()/24)))
	}
	may := func(a Action) bool {
		return slices.ContainsFunc(grants, func(g Grant) bool { return slices.Contains(g.may(), a) })
	}
	for _, a := range []Action{Users, Connect} {
		if may(a) {
			list = append(list, fmt.Sprintf("It may %s: who has it can get every other right.", a))
			break
		}
	}
	var idle []string
	for _, a := range Actions() {
		if may(a) && !slices.Contains(u.Used, a) {
			idle = append(idle, string(a))
		}
	}
	if age >= settledAfter && !u.LastUsed.IsZero() && len(idle) > 0 {
		list = append(list, "Never used: "+strings.Join(idle, ", ")+". Make a narrower one.")
	}
	changes := may(Edit) || may(Sync) || may(Delegate) || may(Place)
	if u.Expires.IsZero() && u.Networks == 0 && changes && slices.ContainsFunc(grants, func(g Grant) bool { return !g.Narrow() }) {
		list = append(list, "It changes every zone, from any network, without an end: narrow it to zones or networks, or let it expire.")
	}
	return list
}
