package profile

import (
	"regexp"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// requestKeys are the keys that every request may have.
var requestKeys = []string{"host", "body", "type", "headers", "let", "answer", "when", "for", "pages", "repeat"}

// reading are the sections that change nothing.
var reading = []string{"zones", "find", "look", "read", "read_name", "poll", "rights", "domains", "domain", "soa.read", "soa.read.steps"}

// valueName is what a value may be called that steps hand on.
var valueName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,30}$`)

// call takes a section about one kind of request, which may have the given keys besides those that all have. It is one request, or steps of which
// the last returns what the section is about.
func (r *reader) call(n *yaml.Node, name string, names []string, keys ...string) *call {
	body := slices.Contains(keys, "body")
	results := slices.DeleteFunc(slices.Clone(keys), func(k string) bool { return k == "body" || k == "type" })
	if slices.Contains(names, "cursor") {
		names = append(slices.Clone(names), "offset")
	}
	if !hasKey(n, "steps") {
		s := r.section(n, name, append(append([]string{"!request"}, requestKeys...), results...)...)
		c := r.single(s, names, nil)
		r.results(s, c, nil)
		return c
	}
	s := r.section(n, name, append([]string{"!steps"}, results...)...)
	list := s.at["steps"]
	if list == nil || list.Kind != yaml.SequenceNode || len(list.Content) == 0 || len(list.Content) > mostSteps {
		r.fault(n, "Write them as a list.", "steps in %s is a list of 1 to %d requests", name, mostSteps)
		return &call{headers: map[string]expression{}}
	}
	var taken []string
	var before []*call
	for i, node := range list.Content {
		allowed := append([]string{"!request"}, requestKeys...)
		if i < len(list.Content)-1 {
			allowed = append(allowed, "take", "undo", "commits")
		}
		if slices.ContainsFunc(results, func(k string) bool { return strings.TrimPrefix(k, "!") == "next" }) || !body {
			allowed = append(allowed, "next", "start")
		} else {
			allowed = append(allowed, "next")
		}
		if i == len(list.Content)-1 {
			allowed = slices.DeleteFunc(allowed, func(k string) bool { return (k == "next" || k == "start") && s.at[k] != nil })
		}
		step := r.section(node, name+".steps", allowed...)
		c := r.single(step, names, taken)
		c.among = true
		if i == len(list.Content)-1 {
			if step.has("next") {
				r.next(step, c, taken)
			}
			c.start = step.text("start")
			r.results(s, c, taken)
			c.before = before
			return c
		}
		if step.has("next") {
			r.next(step, c, taken)
			c.start, c.within = step.text("start"), true
		}
		c.take = r.lets(step, "take", append(taken, letNames(c.lets)...))
		for _, t := range c.take {
			taken = append(taken, t.name)
		}
		c.commits = step.flag("commits")
		if u := step.at["undo"]; u != nil {
			undo := r.section(u, name+".steps.undo", append([]string{"!request"}, requestKeys...)...)
			c.undo = r.single(undo, names, taken)
			c.undo.among, c.undo.repeat = true, true
		}
		before = append(before, c)
	}
	return nil
}

func letNames(list []let) (names []string) {
	for _, l := range list {
		names = append(names, l.name)
	}
	return names
}

// single takes one request. names are those that its address can use, taken the values that earlier steps took.
func (r *reader) single(s section, names, taken []string) *call {
	c := &call{headers: map[string]expression{}, media: s.text("type"), answer: s.choice("answer", "json", "form", "xml", "text"), repeat: s.flag("repeat"), within: s.flag("pages")}
	c.host = s.hostOf("host")
	section, _, _ := strings.Cut(s.name, ".")
	c.reads = slices.Contains(reading, section) || slices.Contains(reading, s.name)
	known := slices.Clone(taken)
	if c.loop = s.expressionWith("for", known); c.loop != "" {
		known = append(known, "item")
	}
	c.when = s.expressionWith("when", taken)
	c.lets = r.lets(s, "let", known)
	known = append(known, letNames(c.lets)...)
	c.method, c.path = s.request("request", append(slices.Clone(names), known...)...)
	c.body = s.expressionWith("body", known)
	if h := s.at["headers"]; h != nil {
		if h.Kind != yaml.MappingNode {
			r.fault(h, "", "headers in %s are names with jq expressions", s.name)
			return c
		}
		for i := 0; i+1 < len(h.Content); i += 2 {
			r.checkExpression(h.Content[i+1], h.Content[i].Value, known)
			c.headers[h.Content[i].Value] = expression(h.Content[i+1].Value)
		}
	}
	if n := s.at["request"]; n != nil {
		c.counts = strings.Contains(n.Value, "offset")
	}
	for _, key := range []string{"body", "next", "let", "headers"} {
		if n := s.at[key]; n != nil {
			c.counts = c.counts || mentions(n, "offset")
		}
	}
	return c
}

// mentions reports whether a word is anywhere below a node.
func mentions(n *yaml.Node, word string) bool {
	return strings.Contains(n.Value, word) || slices.ContainsFunc(n.Content, func(c *yaml.Node) bool { return mentions(c, word) })
}

// lets takes names with expressions.
func (r *reader) lets(s section, key string, known []string) (list []let) {
	n := s.at[key]
	if n == nil {
		return nil
	}
	if n.Kind != yaml.MappingNode {
		r.fault(n, "Write it like {draft: .number}.", "%q in %s is names with jq expressions", key, s.name)
		return nil
	}
	known = slices.Clone(known)
	for i := 0; i+1 < len(n.Content); i += 2 {
		name, value := n.Content[i], n.Content[i+1]
		if !valueName.MatchString(name.Value) {
			r.fault(name, "Use lower-case letters, digits and underscores.", "%q is no name of a value", name.Value)
		}
		r.checkExpression(value, name.Value, known)
		list = append(list, let{name.Value, expression(value.Value)})
		known = append(known, name.Value)
	}
	return list
}

// results takes what a section makes of its answer.
func (r *reader) results(s section, c *call, taken []string) {
	known := append(slices.Clone(taken), letNames(c.lets)...)
	if c.loop != "" {
		known = append(known, "item")
	}
	c.each, c.one, c.mark = s.expressionWith("each", known), s.expressionWith("one", known), s.expressionWith("mark", known)
	c.receipt, c.done, c.failed = s.expressionWith("receipt", known), s.expressionWith("done", known), s.expressionWith("failed", known)
	if s.has("start") {
		c.start = s.text("start")
	}
	if s.has("next") {
		r.next(s, c, known)
	}
	if c.loop != "" && (c.next != "" || c.link) {
		c.within = true
	}
}

// next takes where a list goes on.
func (r *reader) next(s section, c *call, known []string) {
	if s.text("next") == "link" {
		c.link = true
		return
	}
	c.next = s.expressionWith("next", known)
	c.counts = c.counts || mentions(s.at["next"], "offset")
}
