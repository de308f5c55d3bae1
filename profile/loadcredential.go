package profile

import (
	"slices"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// credential takes what a credential is made of, and how it travels: in one way, with its keys beside send, or in several.
func (r *reader) credential(n *yaml.Node) (c credential) {
	if p := valueOf(n, "parts"); p != nil {
		c.parts = r.parts(p)
	}
	if list := valueOf(n, "send"); list != nil && list.Kind == yaml.SequenceNode {
		r.section(n, "credential", "parts", "!send")
		for _, way := range list.Content {
			c.sends = append(c.sends, r.send(way, "credential.send", "in", c.parts, ""))
		}
		return c
	}
	c.sends = []send{r.send(n, "credential", "send", c.parts, "", "parts")}
	return c
}

// valueOf returns the value of a key; nil where the node has none.
func valueOf(n *yaml.Node, key string) *yaml.Node {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

func (r *reader) parts(n *yaml.Node) (list []Part) {
	if n.Kind != yaml.MappingNode || len(n.Content) == 0 {
		r.fault(n, "Write them like {user: , password: }, each with a description or none.", "parts are names")
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		name := n.Content[i]
		if !valueName.MatchString(name.Value) || name.Value == tokenPart {
			r.fault(name, "Use lower-case letters, digits and underscores; not token, which is that of a session.", "%q is no name of a part", name.Value)
		}
		part := Part{Name: name.Value}
		if v := n.Content[i+1]; v.Tag != "!!null" {
			part.About = v.Value
		}
		list = append(list, part)
	}
	return list
}

// send takes one way in which a part travels. kind is the key that says which way it is, whole what part is meant where none is named.
func (r *reader) send(n *yaml.Node, name, kind string, parts []Part, whole string, more ...string) (w send) {
	s := r.section(n, name, append([]string{"!" + kind, "part", "user", "password", "name", "prefix", "hash", "over", "value", "date", "date_form", "id", "derive", "key_prefix", "query",
		"certificate", "key", "authority"}, more...)...)
	w = send{in: s.choice(kind, "header", "basic", "query", "form", "body", "signature", "tls"), name: s.text("name"), prefix: s.text("prefix")}
	part := func(key string) string {
		text := s.text(key)
		if text != "" && text != whole && !slices.ContainsFunc(parts, func(p Part) bool { return p.Name == text }) {
			r.fault(s.at[key], "Name it under credential.parts.", "%q is no part of the credential", text)
		}
		return text
	}
	w.part, w.user, w.password = part("part"), part("user"), part("password")
	if w.part == "" {
		w.part = whole
	}
	needsName := slices.Contains([]string{"header", "query", "form", "body", "signature"}, w.in)
	if needsName && w.name == "" {
		r.fault(n, "Name the header or parameter that holds it.", `"name" is missing in %s`, name)
	}
	if len(parts) > 0 && whole == "" && w.part == "" && needsName {
		r.fault(n, "Say which part it is: part: NAME.", "the credential has several parts")
	}
	if w.in == "basic" && len(parts) > 0 && (w.user == "" || w.password == "") && w.part == "" {
		r.fault(n, "Say which parts they are: user: NAME, password: NAME.", "the credential has several parts")
	}
	switch w.in {
	case "signature":
		w.sign = r.signing(s, n, part)
	case "tls":
		w.tls = &clientTLS{part("certificate"), part("key"), part("authority")}
		if (w.tls.certificate == "") != (w.tls.key == "") || w.tls.certificate == "" && w.tls.authority == "" {
			r.fault(n, "Name the parts: certificate and key, authority, or all three.", "tls needs a certificate with its key, or an authority")
		}
	}
	return w
}

func (r *reader) signing(s section, n *yaml.Node, part func(string) string) *signing {
	c := &signing{hash: s.choice("hash", "sha1", "sha256", "sha512"), over: s.expressionWith("over", nil), value: s.expressionWith("value", nil), date: s.text("date"),
		form: s.choice("date_form", "iso", "basic", "day", "http", "unix"), id: part("id"), start: s.text("key_prefix"), query: s.flag("query")}
	if c.form == "" {
		c.form = "iso"
	}
	for _, step := range s.list("derive") {
		r.checkExpression(step, "derive", nil)
		c.derive = append(c.derive, expression(step.Value))
	}
	if c.hash == "" || c.over == "" || c.value == "" {
		r.fault(n, "", "a signature needs hash, over and value")
	}
	return c
}

// session takes how a token is had and how it travels.
func (r *reader) session(n *yaml.Node, c credential) *session {
	s := r.section(n, "session", "open", "token", "cookie", "expires", "lasts", "uses", "close", "single", "send", "oauth2", "assertion")
	out := &session{token: s.expressionWith("token", nil), cookie: s.text("cookie"), expires: s.expressionWith("expires", nil), lasts: s.span("lasts", 30*24*time.Hour), uses: s.number("uses", 1_000_000), single: s.flag("single")}
	if a := s.at["assertion"]; a != nil {
		out.assertion = r.assertion(a, c.parts)
	}
	if o := s.at["oauth2"]; o != nil {
		out.oauth = r.oauth(o, c.parts)
		if s.has("open") || s.has("token") || s.has("cookie") {
			r.fault(o, "Leave open, token and cookie out.", "oauth2 says how the token is had")
		}
	} else if open := s.at["open"]; open == nil {
		r.fault(n, "Describe the request that returns the token, or write oauth2.", `"open" is missing in session`)
	} else {
		o := r.section(open, "session.open", append([]string{"!request"}, requestKeys...)...)
		var taken []string
		if out.assertion != nil {
			taken = []string{"assertion"}
		}
		out.open = r.single(o, nil, taken)
		out.open.opens, out.open.reads = true, true
		if (out.token == "") == (out.cookie == "") {
			r.fault(n, "Write token, an expression of the answer, or cookie, its name.", "where the token is has to be said once")
		}
	}
	if e := s.at["close"]; e != nil {
		o := r.section(e, "session.close", append([]string{"!request"}, requestKeys...)...)
		out.close = r.single(o, nil, nil)
	}
	switch list := s.at["send"]; {
	case list == nil && out.cookie != "":
		out.sends = []send{{in: "header", part: tokenPart, name: "Cookie", prefix: out.cookie + "="}}
	case list == nil:
		out.sends = []send{{in: "header", part: tokenPart, name: "Authorization", prefix: "Bearer "}}
	case list.Kind == yaml.SequenceNode:
		for _, way := range list.Content {
			out.sends = append(out.sends, r.send(way, "session.send", "in", c.parts, tokenPart))
		}
	default:
		out.sends = []send{r.send(list, "session.send", "in", c.parts, tokenPart)}
	}
	return out
}

func (r *reader) oauth(n *yaml.Node, parts []Part) *oauth {
	s := r.section(n, "session.oauth2", "host", "!path", "!id", "!secret", "scopes", "authenticate")
	o := &oauth{host: s.hostOf("host"), path: s.text("path"), id: s.partOf("id", parts), secret: s.partOf("secret", parts), inHeader: s.choice("authenticate", "header", "body") == "header"}
	if s.has("path") && (!strings.HasPrefix(o.path, "/") || strings.HasPrefix(o.path, "//")) {
		r.fault(s.at["path"], "Write it like /oauth/token.", "%q is no path", o.path)
	}
	for _, scope := range s.list("scopes") {
		o.scopes = append(o.scopes, scope.Value)
	}
	return o
}

func (r *reader) assertion(n *yaml.Node, parts []Part) *assertion {
	s := r.section(n, "session.assertion", "!alg", "!key", "key_id", "!claims", "lasts")
	a := &assertion{alg: s.choice("alg", "RS256", "ES256"), key: s.partOf("key", parts), keyID: s.partOf("key_id", parts), claims: s.expressionWith("claims", nil), lasts: s.span("lasts", time.Hour)}
	if a.lasts == 0 {
		a.lasts = 5 * time.Minute
	}
	return a
}

// partOf takes the name of a part of the credential.
func (s section) partOf(key string, parts []Part) string {
	text := s.text(key)
	if text != "" && !slices.ContainsFunc(parts, func(p Part) bool { return p.Name == text }) {
		s.fault(s.at[key], "Name it under credential.parts.", "%q is no part of the credential", text)
	}
	return text
}

// span takes a time span up to most.
func (s section) span(key string, most time.Duration) time.Duration {
	text := s.text(key)
	if text == "" {
		return 0
	}
	d, err := time.ParseDuration(text)
	if err != nil || d < 0 || d > most {
		s.fault(s.at[key], "Write it like 2s, up to "+most.String()+".", "%q is no time span", text)
		return 0
	}
	return d
}
