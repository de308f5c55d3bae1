package conform

import (
	"errors"
	"fmt"

	"beacon/checklist"
	"beacon/core/record"
	"beacon/provider"
)

// byName reads names with one type, with several, with names below them and without records.
func (r *run) byName() error {
	if !r.caps.ByName {
		return checklist.NotApplicable("only whole zones are read")
	}
	reader, ok := r.Driver.(provider.NameReader)
	if !ok {
		return errors.New("one name can be read by itself, as declared, and the driver does not")
	}
	if err := r.put(nil, r.held(r.set("lone", record.A, 300, "192.0.2.11")), r.held(r.set("both", record.A, 300, "192.0.2.12")), r.held(r.set("both", record.AAAA, 300, "2001:db8::12")),
		r.held(r.set("below.both", record.A, 300, "192.0.2.13"))); err != nil {
		return err
	}
	whole, err := r.read()
	if err != nil {
		return err
	}
	for _, label := range []string{"lone", "both", "below.both", "nothing-here"} {
		name := r.name(label)
		page, err := reader.ReadName(r.ctx, r.zone.Ref, name)
		if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		got, want := record.NewContents(page.Records), whole.Contents.Filter(func(k record.Key) bool { return k.Name == name })
		if !got.Equal(want) {
			return fmt.Errorf("%s is read as %v, and should be %v", name, got.Records(), want.Records())
		}
		for key, detail := range page.Details {
			if fmt.Sprint(detail) != fmt.Sprint(whole.Details[key]) {
				return fmt.Errorf("%s comes with %v, and with %v in a read of the zone", key, detail, whole.Details[key])
			}
		}
	}
	return nil
}
