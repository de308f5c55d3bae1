package finding

import "slices"

var (
	syncGuards = []string{"names-would-stop", "protected-would-go", "mail-would-stop", "apex-would-change", "alias-would-be-empty",
		"host-would-stop", "read-not-confirmed", "write-not-shown"}
	delegationGates = []string{"nameserver-unresolvable", "nameserver-not-ready", "nameserver-unheard", "nameserver-no-tcp", "family-unreachable",
		"ds-present", "ds-not-expired", "ds-not-asked", "ds-not-published", "cds-published", "csync-published", "registrar-locked", "registration-on-hold", "nameserver-misspelt", "nameserver-not-assigned"}
	removalGuards = []string{"zone-still-asked", "zone-still-delegated"}
)

// blocks returns what a code blocks until a user allows it, and how that is done; empty for nothing.
func (e entry) blocks() string {
	switch {
	case e.about == Providers && slices.Contains(syncGuards, e.code):
		return "the sync; to allow it: beacon sync ZONE --allow " + e.code
	case e.about == Providers && slices.Contains(removalGuards, e.code):
		return "the removal of the zone; to allow it: --override " + e.code + " --reason TEXT"
	case (e.about == Lists || e.code == "registration-on-hold") && slices.Contains(delegationGates, e.code):
		return "the delegation; to allow it: beacon delegate DOMAIN --override " + e.code + " --reason TEXT"
	case e.about == Lists && slices.Contains([]string{"ds-unsigned", "ds-keys-differ", "ds-signatures-invalid", "ds-parent-unfit"}, e.code):
		return "the DS records; to allow them: beacon ds publish DOMAIN --override " + e.code + " --reason TEXT"
	case e.code == "old-side-names-itself":
		return "the DS records of a handover; to allow them: beacon handover next DOMAIN --pass " + e.code + " --reason TEXT"
	case e.about == Lists && e.code == "sides-differ":
		return "the delegation; to allow just these differences: beacon delegate DOMAIN --agree DIGEST"
	}
	return ""
}
