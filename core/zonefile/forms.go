package zonefile

import (
	"bufio"
	"encoding/csv"
	"io"
	"strconv"

	"beacon/core/record"
)

// WriteCanonical prints one record a line, owner TTL CLASS TYPE data, with absolute names in lower case and in the order
// of DNSSEC (RFC 4034 section 6): two zones are the same where these lines are.
func WriteCanonical(w io.Writer, c record.Contents) error {
	out := bufio.NewWriter(w)
	for _, r := range c.Canonical() {
		if _, err := out.WriteString(r.String() + "\n"); err != nil {
			return err
		}
	}
	return out.Flush()
}

// WriteCSV prints a header and one record a line (RFC 4180), in the order of DNSSEC.
func WriteCSV(w io.Writer, c record.Contents) error {
	out := csv.NewWriter(w)
	if err := out.Write([]string{"name", "ttl", "type", "data"}); err != nil {
		return err
	}
	for _, r := range c.Canonical() {
		if err := out.Write([]string{r.Name.String(), strconv.FormatUint(uint64(r.TTL), 10), r.Type.String(), string(r.Data)}); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}
