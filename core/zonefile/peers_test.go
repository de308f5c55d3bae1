package zonefile

import (
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"beacon/core/dnsname"
	"beacon/core/rdata"
	"beacon/core/record"
)

// input is one record of the generated zone: the text of its data, and whether the RFCs of its type allow it.
type input struct {
	typ, data string
	class     string // how it was made
	valid     bool
}

func (in input) String() string { return in.typ + " " + in.data }

// inputs draws data of all types in both forms, valid and broken, about so many of each type.
func inputs(t testing.TB, each int) (list []input) {
	d := &draw{rand.New(rand.NewPCG(7, 11))}
	names := make([]string, 0, len(shapes))
	for name := range shapes {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		typ, err := record.ParseType(name)
		require.NoError(t, err, name)
		add := func(class string, valid bool, format string, args ...any) {
			list = append(list, input{name, fmt.Sprintf(format, args...), class, valid})
		}
		endless := slices.Contains([]string{"URI", "CAA", "NSAP", "ATMA"}, name)
		for range each {
			shape := shapes[name]
			pieces := shape.draw(d)
			add("text", true, "%s", joined(pieces))
			wire, err := rdata.Parse(uint16(typ), joined(pieces), peerOrigin)
			if err != nil {
				continue // the test of the text says so
			}
			add("generic", true, `\# %d %s`, len(wire), hex.EncodeToString(wire))
			switch n := d.IntN(8); {
			case n == 0:
				add("generic of wrong length", false, `\# %d %s`, len(wire)+1, hex.EncodeToString(wire))
			case n == 1 && len(wire) > 0:
				add("generic with half an octet", false, `\# %d %s`, len(wire), hex.EncodeToString(wire)[1:])
			case n == 2 && !shape.rest && !shape.open && !endless:
				add("generic cut short", false, `\# %d %s`, len(wire)-1, hex.EncodeToString(wire[:len(wire)-1]))
			case n == 3 && !shape.rest && !shape.open && !endless:
				add("generic too long", false, `\# %d %s07`, len(wire)+1, hex.EncodeToString(wire))
			case n == 4 && len(pieces) > 0 && name != "APL" && !optionalTail(name, pieces):
				add("missing field", false, "%s", joined(pieces[:len(pieces)-1]))
			case n == 5 && !shape.open && !shape.rest:
				add("surplus field", false, "%s surplus", joined(pieces))
			default:
				at := d.IntN(len(pieces) + 1)
				if at < len(pieces) {
					if ways := broken[pieces[at].kind]; len(ways) > 0 {
						spoilt := slices.Clone(pieces)
						spoilt[at].text = ways[d.IntN(len(ways))]
						add("broken "+pieces[at].kind, false, "%s", joined(spoilt))
					}
				}
			}
		}
	}
	return list
}

// optionalTail reports whether the last piece may be left out.
func optionalTail(name string, pieces []piece) bool {
	switch name {
	case "TXT", "SPF", "AVC", "NINFO":
		return len(pieces) > 1
	case "SVCB", "HTTPS":
		return len(pieces) > 2
	case "LOC":
		return len(pieces) > 5
	case "NSEC3", "CSYNC", "WKS", "NXT", "NSEC", "HIP":
		return true
	case "IPSECKEY":
		return false
	}
	return false
}

func joined(pieces []piece) string {
	texts := make([]string, len(pieces))
	for i, p := range pieces {
		texts[i] = p.text
	}
	return strings.Join(texts, " ")
}

var peerOrigin = dnsname.MustParse("peers.test")

const peerHead = "$TTL 3600\n@ IN SOA ns. host. 1 2 3 4 5\n@ NS ns.\n"

// lineOf is the line of the n-th input; the lines between are comments, since peers name the line behind some faults.
func lineOf(n int) int { return 4 + 2*n }

func peerFile(list []input) string {
	var b strings.Builder
	b.WriteString(peerHead)
	for i, in := range list {
		fmt.Fprintf(&b, "o%d %s %s\n;\n", i, in.typ, in.data)
	}
	return b.String()
}

// A peer is a program that judges zone files. One that loses count of lines behind a fault gets one record at a time.
type peer struct {
	name    string
	args    func(file string) []string
	refused *regexp.Regexp // its groups are the line and the reason
	unknown *regexp.Regexp // reasons that are no judgement of the data
	alone   bool
}

var peers = []peer{
	{"named-compilezone", func(f string) []string {
		return []string{"-i", "none", "-n", "ignore", "-m", "ignore", "-k", "ignore", "-o", f + ".out", "peers.test.", f}
	},
		regexp.MustCompile(`(?m)zone:(\d+): (.*)$`), regexp.MustCompile("unknown RR type|unknown class/type|obsolete|not implemented|old style DNSSEC|signature has expired"), false},
	{"kzonecheck", func(f string) []string { return []string{"-v", "-o", "peers.test.", f} },
		regexp.MustCompile(`(?m)line (\d+) \((.*)\)$`), regexp.MustCompile("unsupported record type"), false},
	{"nsd-checkzone", func(f string) []string { return []string{"peers.test.", f} },
		regexp.MustCompile(`(?m)error: \S*zone:(\d+): (.*)$`), regexp.MustCompile("unrecognized RR type|experimental|obsolete"), true},
}

// verdicts returns what a peer says of each input: "" for nothing against it, "?" for no opinion, else its reason.
func (p peer) verdicts(t testing.TB, dir string, list []input) []string {
	out := make([]string, len(list))
	step := 40 // some stop after a number of faults
	if p.alone {
		step = 1
	}
	for from := 0; from < len(list); from += step {
		file := filepath.Join(dir, p.name+".zone")
		require.NoError(t, os.WriteFile(file, []byte(peerFile(list[from:min(from+step, len(list))])), 0o600))
		said, _ := exec.Command(p.name, p.args(file)...).CombinedOutput()
		for _, m := range p.refused.FindAllStringSubmatch(string(said), -1) {
			line, _ := strconv.Atoi(m[1])
			at := from + (line-4)/2
			if p.alone {
				at = from
			}
			switch {
			case line < 4 || at >= len(list):
			case p.unknown.MatchString(m[2]):
				out[at] = "?"
			case out[at] == "":
				out[at] = m[2]
			}
		}
	}
	return out
}

// excuse is a class of inputs that a peer judges otherwise than we do, and why we are right.
type excuse struct {
	peer, types, class, reason string // regular expressions; an empty one fits all
	valid                      bool
	why                        string
}

func (e excuse) fits(p peer, in input, reason string) bool {
	match := func(pattern, text string) bool {
		return pattern == "" || regexp.MustCompile("^("+pattern+")$").MatchString(text)
	}
	return match(e.peer, p.name) && match(e.types, in.typ) && match(e.class, in.class) && e.valid == in.valid && (e.reason == "" || strings.Contains(reason, e.reason))
}

var excuses = []excuse{
	{"kzonecheck", "", "generic .*", "", false, "octets of a known type are data of that type, with all its rules (RFC 3597 section 5)"},
	{"kzonecheck", "GPOS|WKS|X25", "text|generic", "invalid number", true, "it has no form for GPOS (RFC 1712 section 3), WKS (RFC 1035 section 3.4.2), X25 (RFC 1183 section 3.1)"},
	{"kzonecheck|nsd-checkzone", "KEY", "text", "", true, "the protocol of KEY may be a mnemonic (RFC 2535 section 7.1)"},
	{"kzonecheck", "NID|L64", "text", "hexadecimal", true, "leading zeros of a group may be left out (RFC 6742 section 2.1.2)"},
	{"kzonecheck|nsd-checkzone", "", "broken name", "", false, `an octet is at most \255, a label 63 octets, a name 255 (RFC 1035 sections 2.3.4 and 5.1)`},
	{"kzonecheck", "", "broken str", "", false, "a character-string has at most 255 octets (RFC 1035 section 3.3)"},
	{"", "IPSECKEY", "missing field", "", false, "an algorithm other than 0 has a key (RFC 4025 section 2.4)"},
	{"", "SSHFP|TLSA|SMIMEA|ZONEMD|DS|CDS|DLV|TA", "missing field", "", false, "a digest is there (RFC 4255 section 3.1.3, RFC 6698 section 2.1.4, RFC 8976 section 2.2.4)"},
	{"named-compilezone", "DNSKEY|CDNSKEY|KEY", "broken n16", "", false, "flags are decimal (RFC 4034 section 2.2)"},
	{"nsd-checkzone", "", "generic of wrong length", "", false, "the length is that of the octets (RFC 3597 section 5)"},
	{"nsd-checkzone", "", "generic with half an octet|generic cut short|generic too long", "", false, "octets have two digits each, and are data of the type (RFC 3597 section 5)"},
	{"nsd-checkzone", "", "broken n(8|16|32)", "", false, "a number fits its octets (RFC 1035 sections 3.3 and 5.1)"},
	{"nsd-checkzone", "", "broken (str|long)", "", false, `\DDD is three digits up to 255 (RFC 1035 section 5.1), a string at most 255 octets (section 3.3)`},
	{"nsd-checkzone", "", "broken (a4|a6|b64|hex|types)|missing field", "", false, "the part is there and of its form (the RFC of the type)"},
	{"nsd-checkzone", "CAA", "text", "invalid tag", true, "tags have letters of both cases (RFC 8659 section 4.1)"},
	{"nsd-checkzone", "IPSECKEY", "text", "syntax error", true, "@ is the origin wherever a name is (RFC 1035 section 5.1)"},
	{"nsd-checkzone", "RRSIG", "text", "date and time", true, "a time may be a number of seconds (RFC 4034 section 3.2)"},
}

// Every input of which the RFCs allow the data is accepted, every other refused at its line; peers agree but for what is listed.
func TestPeersAgree(t *testing.T) {
	each := 6
	if os.Getenv("BEACON_SOAK") != "" {
		each = 60
	}
	agreeWithPeers(t, each)
}

// What we make of valid text is what a peer makes of it: the peer prints the text and our octets of it as the same lines.
func TestPeerReadsTheSameRecords(t *testing.T) {
	if _, err := exec.LookPath(peers[0].name); err != nil {
		t.Fatalf("%s is missing; make test installs it", peers[0].name)
	}
	dir := t.TempDir()
	var texts []input
	for _, in := range inputs(t, 20) {
		if in.valid && in.class == "text" {
			texts = append(texts, in)
		}
	}
	said := peers[0].verdicts(t, dir, texts)
	var asText, asOctets []input
	for i, in := range texts {
		typ, err := record.ParseType(in.typ)
		require.NoError(t, err)
		wire, err := rdata.Parse(uint16(typ), in.data, peerOrigin)
		require.NoError(t, err, in)
		if said[i] == "" {
			asText = append(asText, in)
			asOctets = append(asOctets, input{in.typ, fmt.Sprintf(`\# %d %s`, len(wire), hex.EncodeToString(wire)), "generic", true})
		}
	}
	printed := func(list []input) []string {
		file := filepath.Join(dir, "same.zone")
		require.NoError(t, os.WriteFile(file, []byte(peerFile(list)), 0o600))
		out, err := exec.Command(peers[0].name, append([]string{"-F", "text", "-s", "full"}, peers[0].args(file)...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		lines, err := os.ReadFile(file + ".out")
		require.NoError(t, err)
		return strings.Split(strings.ReplaceAll(string(lines), "Web.Example.", "web.example."), "\n") // names are the same in any case
	}
	one, other := printed(asText), printed(asOctets)
	assert.Greater(t, len(one), len(asText))
	assert.Equal(t, one, other)
	t.Logf("%d records of %d", len(asText), len(texts))
}

func agreeWithPeers(t *testing.T, each int) {
	list := inputs(t, each)
	ours := make([]string, len(list))
	for from := 0; from < len(list); from += 100 {
		_, faults := Read(peerFile(list[from:min(from+100, len(list))]), Options{Origin: peerOrigin})
		for _, f := range faults {
			at := (f.Line - 4) / 2
			require.Equal(t, lineOf(at), f.Line, "the fault names the line of a record: %s", f.Error())
			ours[from+at] = f.Message
		}
	}
	valid := 0
	for i, in := range list {
		if in.valid {
			valid++
		}
		assert.Equal(t, in.valid, ours[i] == "", "%s, %s: %s", in, in.class, ours[i])
	}
	t.Logf("%d inputs of %d types, %d of them valid", len(list), len(shapes), valid)
	for _, p := range peers {
		if _, err := exec.LookPath(p.name); err != nil {
			t.Errorf("%s is missing; make test installs it", p.name)
			continue
		}
		agreed, unknown, excused := 0, 0, make([]int, len(excuses))
		for i, said := range p.verdicts(t, t.TempDir(), list) {
			if said == "?" {
				unknown++
				continue
			}
			if (said == "") == list[i].valid {
				agreed++
				continue
			}
			if at := slices.IndexFunc(excuses, func(e excuse) bool { return e.fits(p, list[i], said) }); at >= 0 {
				excused[at]++
				continue
			}
			t.Errorf("%s: %.60s (%s, valid: %v): %s", p.name, list[i], list[i].class, list[i].valid, said)
		}
		t.Logf("%s: %d agreed, %d of types that it does not know", p.name, agreed, unknown)
		for i, n := range excused {
			if n > 0 {
				t.Logf("  %d differ: %s", n, excuses[i].why)
			}
		}
	}
}
