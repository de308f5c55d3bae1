package gather

import (
	"context"
	"fmt"
	"slices"

	"beacon/core/access"
	"beacon/core/definition"
	"beacon/core/record"
	"beacon/core/wording"
	"beacon/core/zonefile"
	"beacon/provider"
	"beacon/service/accounts"
	"beacon/service/logbook"
	"beacon/service/zones"
	"beacon/store"
	"beacon/wire"
)

// Generate writes a definition of a zone as it is elsewhere. SOA and apex NS belong to where it is now and are left out.
func (s *Gather) Generate(ctx context.Context, by access.Caller, r wire.GenerateRequest) (out wire.Generated, err error) {
	if err := wire.Permit(by, access.Place, access.Zone(r.Zone)); err != nil {
		return out, err
	}
	if r.New {
		text, kit, faults := s.zones.NewDefinition(r.Zone, definition.Zone{Description: r.Description, Providers: r.Providers, Registrar: r.Registrar})
		if len(faults) > 0 {
			return out, &wire.Problem{Kind: wire.Invalid, Message: "The house kit does not fit this zone.", Faults: faults}
		}
		return wire.Generated{Text: text, From: "house kit " + kit, LeftOut: []wire.LeftOut{}}, nil
	}
	var all record.Contents
	if r.Text != "" {
		read, faults := zonefile.Read(r.Text, zonefile.Options{Origin: r.Zone, File: r.File})
		if len(faults) > 0 {
			return out, &wire.Problem{Kind: wire.Invalid, Message: fmt.Sprintf("The zone file has %s.", wording.Counted(len(faults), "fault")), Faults: faults}
		}
		all, out.From = read.Contents(), r.File
	} else if all, out.From, err = s.readElsewhere(ctx, r); err != nil {
		return out, err
	}
	contents, left := zones.WithoutProvidersOwn(r.Zone, all)
	out.LeftOut = left
	out.Text = definition.Write([]definition.Zone{{Name: r.Zone, Description: r.Description, Providers: r.Providers, Registrar: r.Registrar, Contents: contents}}, nil)
	return out, nil
}

// readElsewhere reads a zone from the account that was named, or the first that has it and is not to serve it.
func (s *Gather) readElsewhere(ctx context.Context, r wire.GenerateRequest) (c record.Contents, from string, err error) {
	var list []store.Account
	err = s.logbook.Tx(ctx, func(tx *store.Tx) (err error) { list, err = accounts.Providers(tx); return err })
	if err != nil {
		return c, "", err
	}
	for _, a := range list {
		if r.From != "" && a.Name != r.From || r.From == "" && slices.Contains(r.Providers, a.Name) {
			continue
		}
		driver, err := s.accounts.Provider(a)
		if err != nil {
			return c, "", err
		}
		reading, cancel := context.WithTimeout(ctx, s.timeout*4)
		defer cancel()
		zone, there, err := provider.FindZone(reading, driver, r.Zone)
		if err != nil {
			return c, "", logbook.Explain(err)
		}
		if there {
			state, err := provider.ReadAll(reading, driver, zone.Ref, provider.State{})
			return state.Contents, a.Name, logbook.Explain(err)
		}
	}
	return c, "", wire.Problemf(wire.NotFound, "No connected provider account holds %s. Connect the one that does (beacon provider add), or bring its zone file.", r.Zone)
}
