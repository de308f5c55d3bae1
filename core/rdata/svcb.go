package rdata

import (
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Keys of service parameters (RFC 9460 section 14.3, RFC 9461, RFC 9540).
const (
	svcMandatory = iota
	svcALPN
	svcNoDefaultALPN
	svcPort
	svcIPv4Hint
	svcECH
	svcIPv6Hint
	svcDoHPath
	svcOHTTP
)

var svcNames = []string{"mandatory", "alpn", "no-default-alpn", "port", "ipv4hint", "ech", "ipv6hint", "dohpath", "ohttp"}

func svcKey(text string) (uint16, error) {
	if at := slices.Index(svcNames, text); at >= 0 {
		return uint16(at), nil
	}
	digits, generic := strings.CutPrefix(text, "key")
	n, err := decimal(digits, 1<<16-2) // 65535 is reserved
	if !generic || err != nil || len(digits) > 1 && digits[0] == '0' {
		return 0, fmt.Errorf("%q is no parameter; write a known name, or key followed by a number up to 65534", text)
	}
	return uint16(n), nil
}

// svcName prints a key. Those that servers of some years ago do not read by name are printed by number.
func svcName(key uint16) string {
	if key <= svcDoHPath {
		return svcNames[key]
	}
	return "key" + strconv.Itoa(int(key))
}

type svcParam struct {
	key   uint16
	value []byte
}

// svcParams are the parameters of a service (RFC 9460 section 2.1), in rising order of their keys on the wire.
var svcParams = part{"parameters", func(s *scanner, out []byte) ([]byte, error) {
	var list []svcParam
	for s.at < len(s.tokens) {
		w, err := s.word()
		if err != nil {
			return nil, err
		}
		p, err := readParam(w)
		if err != nil {
			return nil, err
		}
		list = append(list, p)
	}
	slices.SortStableFunc(list, func(a, b svcParam) int { return int(a.key) - int(b.key) })
	for _, p := range list {
		if len(p.value) > maxData {
			return nil, fmt.Errorf("%s is longer than a record can be", svcName(p.key))
		}
		out = append(appendNumber(appendNumber(out, uint64(p.key), 2), uint64(len(p.value)), 2), p.value...)
	}
	return out, checkParams(list)
}, func(o *octets, p *printer) error {
	var list []svcParam
	for len(o.data) > 0 {
		key, err := o.number(2)
		if err != nil {
			return err
		}
		size, err := o.number(2)
		if err != nil {
			return err
		}
		value, err := o.take(int(size))
		if err != nil {
			return err
		}
		list = append(list, svcParam{uint16(key), value})
	}
	if err := checkParams(list); err != nil {
		return err
	}
	for _, param := range list {
		p.word(param.String())
	}
	return nil
}}

func readParam(w string) (svcParam, error) {
	name, raw, _ := strings.Cut(w, "=")
	key, err := svcKey(name)
	if err != nil {
		return svcParam{}, err
	}
	t := token{text: raw}
	if len(raw) > 1 && raw[0] == '"' && closing(raw, 1) == len(raw)-1 {
		t = token{raw[1 : len(raw)-1], true}
	}
	octets, err := t.octetsOf()
	if err == nil && !strings.HasPrefix(name, "key") { // the generic form has the octets themselves (RFC 9460 section 2.1)
		octets, err = paramValue(key, string(octets))
	}
	if err != nil {
		return svcParam{}, fmt.Errorf("%s: %w", name, err)
	}
	return svcParam{key, octets}, nil
}

// paramValue returns the wire form of a value whose escapes are resolved.
func paramValue(key uint16, value string) (out []byte, err error) {
	switch key {
	case svcMandatory:
		var keys []uint16
		for _, name := range strings.Split(value, ",") {
			k, err := svcKey(name)
			if err != nil {
				return nil, err
			}
			keys = append(keys, k)
		}
		slices.Sort(keys)
		for _, k := range keys {
			out = appendNumber(out, uint64(k), 2)
		}
		return out, nil
	case svcALPN:
		ids, err := valueList(value)
		if err != nil {
			return nil, err
		}
		for _, id := range ids {
			if len(id) == 0 || len(id) > 255 {
				return nil, errors.New("a protocol has 1 to 255 octets")
			}
			out = append(append(out, byte(len(id))), id...)
		}
		return out, nil
	case svcPort:
		n, err := decimal(value, 1<<16-1)
		return appendNumber(nil, n, 2), err
	case svcIPv4Hint, svcIPv6Hint:
		for _, text := range strings.Split(value, ",") {
			addr, err := addressOf(text, hintSize(key))
			if err != nil {
				return nil, err
			}
			out = append(out, addr.AsSlice()...)
		}
		return out, nil
	case svcECH:
		return readBase64(value)
	}
	return []byte(value), nil
}

func hintSize(key uint16) int {
	if key == svcIPv4Hint {
		return 4
	}
	return 16
}

// valueList cuts a value at commas; \, is a comma and \\ a backslash within an item (RFC 9460 appendix A.1).
func valueList(value string) ([]string, error) {
	var list []string
	var item strings.Builder
	for i := 0; i < len(value); i++ {
		switch c := value[i]; {
		case c == '\\' && i+1 < len(value) && (value[i+1] == ',' || value[i+1] == '\\'):
			i++
			item.WriteByte(value[i])
		case c == '\\':
			return nil, errors.New(`a backslash in a list stands before a comma or another backslash`)
		case c == ',':
			list = append(list, item.String())
			item.Reset()
		default:
			item.WriteByte(c)
		}
	}
	return append(list, item.String()), nil
}

// checkParams returns an error if the parameters contradict each other or one has no valid value (RFC 9460 sections 2.2, 7 and 8).
func checkParams(list []svcParam) error {
	has := map[uint16]bool{}
	for i, p := range list {
		if i > 0 && p.key <= list[i-1].key {
			return fmt.Errorf("%s is there twice, or out of order", svcName(p.key))
		}
		if p.key == 1<<16-1 {
			return errors.New("key65535 is reserved")
		}
		has[p.key] = true
		if !p.valid() {
			return fmt.Errorf("%s has no valid value", svcName(p.key))
		}
	}
	if has[svcNoDefaultALPN] && !has[svcALPN] {
		return errors.New("no-default-alpn needs alpn beside it")
	}
	if has[svcMandatory] {
		for _, key := range list[0].keys() {
			if !has[key] || key == svcMandatory {
				return fmt.Errorf("mandatory names %s, which is not among the parameters", svcName(key))
			}
		}
	}
	return nil
}

// keys returns the keys that a value of mandatory lists.
func (p svcParam) keys() (keys []uint16) {
	for v := p.value; len(v) > 1; v = v[2:] {
		keys = append(keys, uint16(v[0])<<8|uint16(v[1]))
	}
	return keys
}

func (p svcParam) valid() bool {
	v := p.value
	switch p.key {
	case svcMandatory:
		keys := p.keys()
		for i := range keys {
			if i > 0 && keys[i] <= keys[i-1] {
				return false
			}
		}
		return len(v) > 0 && len(v)%2 == 0
	case svcALPN:
		for o := (&octets{v}); len(o.data) > 0; {
			if id, err := o.string(); err != nil || len(id) == 0 {
				return false
			}
		}
		return len(v) > 0
	case svcNoDefaultALPN, svcOHTTP:
		return len(v) == 0
	case svcPort:
		return len(v) == 2
	case svcIPv4Hint, svcIPv6Hint:
		return len(v) > 0 && len(v)%hintSize(p.key) == 0
	case svcECH:
		return len(v) > 0
	case svcDoHPath: // a relative URI template with the variable dns (RFC 9461 section 5)
		_, variables, ok := strings.Cut(string(v), "{")
		return utf8.Valid(v) && strings.HasPrefix(string(v), "/") && ok && strings.Contains(variables, "dns")
	}
	return true
}

func (p svcParam) String() string {
	name := svcName(p.key)
	switch p.key {
	case svcMandatory:
		var names []string
		for _, key := range p.keys() {
			names = append(names, svcName(key))
		}
		return name + `="` + strings.Join(names, ",") + `"`
	case svcALPN:
		var ids []string
		for o := (&octets{p.value}); len(o.data) > 0; {
			id, _ := o.string() // checkParams saw that it is whole
			ids = append(ids, strings.NewReplacer(`\`, `\\`, ",", `\,`).Replace(string(id)))
		}
		return name + "=" + Quote(strings.Join(ids, ","))
	case svcPort:
		return name + `="` + strconv.Itoa(int(p.value[0])<<8|int(p.value[1])) + `"`
	case svcIPv4Hint, svcIPv6Hint:
		var hints []string
		for chunk := range slices.Chunk(p.value, hintSize(p.key)) {
			hints = append(hints, addressText(chunk))
		}
		return name + `="` + strings.Join(hints, ",") + `"`
	case svcECH:
		return name + `="` + base64.StdEncoding.EncodeToString(p.value) + `"`
	}
	if len(p.value) == 0 {
		return name
	}
	return name + "=" + Quote(p.value)
}
