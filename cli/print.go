package cli

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"beacon/cli/screen"
	"beacon/core/dnsname"
	"beacon/core/finding"
	"beacon/core/record"
)

// width is how many columns a table may take.
const width = 100

// leastLast is the least width of a table's last column; where less is left, it goes below the others.
const leastLast = 24

// table prints rows in aligned columns; the last one is wrapped to the width.
func (a *app) table(header []string, rows [][]string) {
	sizes := make([]int, len(header))
	for _, row := range append([][]string{header}, rows...) {
		for i, cell := range row {
			sizes[i] = max(sizes[i], len([]rune(cell)))
		}
	}
	indent := 0
	for _, size := range sizes[:len(sizes)-1] {
		indent += size + 2
	}
	for n, row := range append([][]string{header}, rows...) {
		var b strings.Builder
		for i, cell := range row[:len(row)-1] {
			fmt.Fprintf(&b, "%s%s", cell, strings.Repeat(" ", sizes[i]+2-len([]rune(cell))))
		}
		last := row[len(row)-1]
		line := b.String() + last
		if sizes[len(sizes)-1] > width-indent {
			at := indent
			if width-indent < leastLast {
				at = 4
				if n > 0 && last != "" {
					before := strings.TrimRight(b.String(), " ")
					b.Reset()
					b.WriteString(before + "\n" + strings.Repeat(" ", at))
				}
			}
			line = b.String() + strings.Join(wrap(last, width-at), "\n"+strings.Repeat(" ", at))
		}
		if n == 0 {
			line = a.paint(dim, line)
		}
		a.printf("%s\n", strings.TrimRight(line, " "))
	}
}

// wrap breaks a text at blanks into lines of at most size columns; a longer word stays whole, and so do blanks within a
// line: they may be data.
func wrap(text string, size int) []string {
	var lines []string
	line := ""
	for i, word := range strings.Split(text, " ") {
		if line != "" && len([]rune(line))+1+len([]rune(word)) > size {
			lines = append(lines, line)
			line = word
			continue
		}
		if i > 0 {
			line += " "
		}
		line += word
	}
	return append(lines, line)
}

// Colours are said by words too: none carries meaning alone.
type colour string

const (
	dim   colour = "2"
	bold  colour = "1"
	red   colour = "31"
	amber colour = "33"
	mauve colour = "35"
	green colour = "32"
)

func (a *app) paint(c colour, text string) string {
	if !isTerminal(a.out) || os.Getenv("NO_COLOR") != "" {
		return text
	}
	return screen.Escape + "[" + string(c) + "m" + text + screen.Escape + "[0m"
}

// names joins nameservers without their final dots.
func names(list []dnsname.Name) string {
	if len(list) == 0 {
		return "none"
	}
	texts := make([]string, len(list))
	for i, n := range list {
		texts[i] = plain(n)
	}
	return strings.Join(texts, ", ")
}

func plain(n dnsname.Name) string {
	if n.IsRoot() {
		return "."
	}
	return strings.TrimSuffix(n.String(), ".")
}

// showRecords prints what comes and what goes.
func (a *app) showRecords(zone dnsname.Name, added, removed []record.Record) {
	for _, r := range removed {
		a.recordLine(a.paint(red, "-"), zone, r)
	}
	for _, r := range added {
		a.recordLine(a.paint(green, "+"), zone, r)
	}
}

func (a *app) recordLine(mark string, zone dnsname.Name, r record.Record) {
	a.setLine(mark, r.Name.Relative(zone)+" "+r.Type.String(), fmt.Sprintf("%d  %s", r.TTL, r.Data))
}

// setLine prints a mark, what it is about, and data, which is wrapped below itself.
func (a *app) setLine(mark, label, text string) {
	indent := strings.Repeat(" ", 29)
	first, rest, _ := strings.Cut(text, "  ")
	lines := wrap(rest, width-36)
	a.printf("  %s %-24s %-5s %s\n", mark, label, first, strings.Join(lines, "\n"+indent+"      "))
}

// count prints a number with its noun.
func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// are returns a number with its noun and the verb that fits.
func are(n int, noun string) string {
	if n == 1 {
		return "1 " + noun + " is"
	}
	return count(n, noun) + " are"
}

// findings prints judgements, the gravest first, each with what to do.
func (a *app) findings(list []finding.Finding) {
	for _, f := range alike(list) {
		word := map[finding.Severity]string{finding.Error: a.paint(red, "error  "), finding.Warning: a.paint(amber, "warning"), finding.Notice: "notice "}[f.Severity]
		a.printf("  %s  %s  %s\n", word, a.paint(bold, f.Code), strings.TrimSuffix(strings.ReplaceAll(f.Subject, ". ", " "), "."))
		message := f.Message
		if len(f.others) > 0 {
			message += " The same holds for " + strings.Join(f.others, ", ") + "."
		}
		for _, line := range wrap(message, width-11) {
			a.printf("           %s\n", line)
		}
		for i, line := range wrap(f.Remedy, width-14) {
			arrow := "   "
			if i == 0 {
				arrow = "=> "
			}
			if line != "" {
				a.printf("           %s%s\n", arrow, line)
			}
		}
		if f.Severity >= finding.Warning {
			a.seen(f.Seen)
		}
	}
	if finding.Worst(list) >= finding.Warning && !a.hinted {
		a.hinted = true
		a.printf("  %s\n", a.paint(dim, "More about a code: beacon explain CODE"))
	}
}

// folded is a finding with the subjects of those like it.
type folded struct {
	finding.Finding
	others []string
}

// alike puts findings together that have the same code, severity and remedy: three resolvers that fail are one matter.
func alike(list []finding.Finding) (out []folded) {
	for _, f := range list {
		i := slices.IndexFunc(out, func(o folded) bool {
			return o.Code == f.Code && o.Severity == f.Severity && o.Remedy == f.Remedy && o.Subject != f.Subject
		})
		if i < 0 {
			out = append(out, folded{Finding: f})
		} else if subject := strings.TrimSuffix(f.Subject, "."); !slices.Contains(out[i].others, subject) {
			out[i].others = append(out[i].others, subject)
		}
	}
	return out
}

// mostSeen is how many lines of evidence are shown with a finding.
const mostSeen = 4

// seen shows what a finding rests on.
func (a *app) seen(list []string) {
	for i, text := range list {
		if i == mostSeen {
			a.printf("           seen: and %d more; --output json shows all\n", len(list)-mostSeen)
			return
		}
		for k, line := range wrap(text, width-17) {
			label := "      "
			if k == 0 {
				label = "seen: "
			}
			a.printf("           %s%s\n", label, a.paint(dim, line))
		}
	}
}

// span prints a duration for people: two units at most.
func span(d time.Duration) string {
	d = d.Round(time.Second)
	switch {
	case d < 0:
		return "0 s"
	case d < time.Minute:
		return fmt.Sprintf("%d s", d/time.Second)
	case d < time.Hour:
		return fmt.Sprintf("%d min %d s", d/time.Minute, d%time.Minute/time.Second)
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h %d min", d/time.Hour, d%time.Hour/time.Minute)
	}
	return fmt.Sprintf("%d days %d h", d/(24*time.Hour), d%(24*time.Hour)/time.Hour)
}

// moment prints a simulated time, with the date where it is not the day of now.
func moment(t, now time.Time) string {
	if t.UTC().Format(time.DateOnly) == now.UTC().Format(time.DateOnly) {
		return t.UTC().Format("15:04:05")
	}
	return t.UTC().Format("2006-01-02 15:04:05")
}
