package zones

import (
	"fmt"
	"os"
	"strings"

	"beacon/core/definition"
	"beacon/core/dnsname"
	"beacon/core/zonefile"
	"beacon/wire"
)

// NewZoneSettings say what a zone starts with that is new and exists nowhere yet.
type NewZoneSettings struct {
	Kits string            `yaml:"kits"` // a definition file with kits
	Kit  string            `yaml:"kit"`  // the one that new zones use
	With map[string]string `yaml:"with"` // its parameters
}

// HouseKit is the kit with what is needed to use it.
type HouseKit struct {
	wire.HouseKit
	kits []definition.Kit
	with map[string]string
}

// ReadHouseKit reads the kit that the settings name, and tries it.
func ReadHouseKit(settings NewZoneSettings) (h HouseKit, err error) {
	if settings.Kit == "" {
		return h, nil
	}
	text, err := os.ReadFile(settings.Kits)
	if err != nil {
		return h, fmt.Errorf("the setting new_zones.kits: %w", err)
	}
	read, faults := definition.Read([]definition.File{{Name: settings.Kits, Text: string(text)}})
	if len(faults) > 0 {
		return h, fmt.Errorf("the setting new_zones.kits: %w", faults[0])
	}
	h = HouseKit{HouseKit: wire.HouseKit{Name: settings.Kit}, kits: read.Kits, with: settings.With}
	for _, k := range read.Kits {
		if k.Name == settings.Kit {
			h.Description = k.Description
		}
	}
	if _, faults := h.zone(dnsname.MustParse("zone.example"), definition.Zone{}); len(faults) > 0 {
		return h, fmt.Errorf("the setting new_zones: %w", faults[0])
	}
	return h, nil
}

// zone makes the definition of a new zone that uses the kit, or stands empty where there is none.
func (h HouseKit) zone(name dnsname.Name, d definition.Zone) (text string, faults []zonefile.Fault) {
	d.Name = name
	if h.Name == "" {
		return definition.Write([]definition.Zone{d}, nil), nil
	}
	d.Uses = []definition.Use{{Kit: h.Name, With: h.with}}
	d.TTL = 3600
	text = definition.Write([]definition.Zone{d}, h.kits)
	_, faults = definition.Read([]definition.File{{Name: strings.TrimSuffix(name.String(), ".") + ".beacon.yaml", Text: text}})
	return text, faults
}

// HouseKit returns the kit that new zones start with.
func (s *Zones) HouseKit() wire.HouseKit { return s.house.HouseKit }

// NewDefinition returns the definition of a zone that exists nowhere yet, and the name of the kit that it uses.
func (s *Zones) NewDefinition(name dnsname.Name, d definition.Zone) (text, kit string, faults []zonefile.Fault) {
	text, faults = s.house.zone(name, d)
	return text, s.house.Name, faults
}
