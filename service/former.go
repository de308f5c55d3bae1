package service

// formerSettings are settings by the names that they had before the first release, with those that they have now.
var formerSettings = map[string]string{"reach": "allowed_networks", "places": "vantage_points", "sites": "websites", "tell": "notifications", "after": "delay",
	"place": "timezone", "always": "ignore_quiet_hours", "believe": "allowed_networks", "authority": "ca_file", "roots": "root_hints", "anchors": "trust_anchors",
	"patience": "timeout", "detours": "address_overrides", "glance": "brief"}
