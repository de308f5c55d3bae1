package cli

// formerCommands are commands by the names that they had before the first release, with those that they have now.
var formerCommands = map[string]string{"define": "beacon apply", "keep": "beacon host report", "person": "beacon user", "zone care": "beacon zone settings",
	"zone sketch": "beacon zone generate", "zone takeover": "beacon zone detach", "draft drop": "beacon draft discard", "key renew": "beacon key rotate"}

// formerOptions are options by the names that they had before the first release.
var formerOptions = map[string]string{"--why": "--reason", "--now": "--sync", "--put-back": "--revert", "--skip-led": "--skip-managed", "--only-ours": "--keep-existing",
	"--at": "--url, or --providers", "--out": "beacon sign-out", "--roots": "--root-hints", "--anchors": "--trust-anchors", "--authority": "--ca-file", "--label": "--description", "--private": "the setting allowed_networks of the service"}
