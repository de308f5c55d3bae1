package wording

import (
	"maps"
	"slices"
	"strings"
)

// sentences say what the actions of the logbook are, with WHO and WHAT in the places of actor and subject. An action of an act, such as
// delegate.done, has its sentence under that name.
var sentences = map[string]string{
	"account.added":              "WHO connected the account WHAT.",
	"account.away":               "The account WHAT does not answer.",
	"account.back":               "The account WHAT answers again.",
	"account.removed":            "WHO removed the account WHAT.",
	"account.rotated":            "WHO gave the account WHAT a new credential.",
	"account.verified":           "The verification of the account WHAT ended.",
	"account.verify":             "WHO started a verification of the account WHAT.",
	"alias.moved":                "The addresses behind the ALIAS WHAT changed.",
	"alias.unanswered":           "The target of the ALIAS WHAT does not answer.",
	"brief-check.changed":        "The brief check found domains whose state changed.",
	"bulk-change.done":           "WHO made a bulk change.",
	"channel.tested":             "WHO sent a test to the channel WHAT.",
	"database.away":              "The database was away.",
	"delegate.blocked":           "The delegation of WHAT was blocked.",
	"delegate.cancelled":         "WHO cancelled the delegation of WHAT.",
	"delegate.done":              "WHO delegated WHAT.",
	"delegate.failed":            "The delegation of WHAT failed.",
	"delegate.not-applied":       "The delegation of WHAT was not applied.",
	"delegate.partial":           "The delegation of WHAT was applied in part.",
	"delegate.requested":         "WHO requested the delegation of WHAT.",
	"delegate.retrying":          "The delegation of WHAT waits for the registrar.",
	"domain.seen":                "A check of WHAT found something new.",
	"domain.verdict":             "The state of WHAT changed.",
	"draft.accepted":             "WHO accepted the draft of WHAT.",
	"draft.discarded":            "WHO discarded the draft of WHAT.",
	"draft.edited":               "WHO edited the draft of WHAT.",
	"draft.proposed":             "Your records of before the handover are proposed in the draft of WHAT.",
	"drift.adopted":              "WHO adopted changes that were made to WHAT at its provider.",
	"files.applied":              "WHO applied the definition of WHAT.",
	"files.not-pruned":           "WHAT is in no definition file any more, and was not removed.",
	"files.not-synced":           "The definition of WHAT was applied, and its sync was not possible.",
	"files.refused":              "The definition files in WHAT were refused.",
	"files.skipped":              "The definition of WHAT was skipped.",
	"files.unreadable":           "The folder WHAT cannot be read.",
	"files.vanished":             "WHAT is in no definition file any more.",
	"delegation.changed":         "A delegation in WHAT was changed.",
	"ds-written":                 "The DS records of WHAT were changed.",
	"ds.blocked":                 "The change of the DS records of WHAT was blocked.",
	"ds.cancelled":               "WHO cancelled the change of the DS records of WHAT.",
	"ds.done":                    "WHO changed the DS records of WHAT.",
	"ds.failed":                  "The change of the DS records of WHAT failed.",
	"ds.requested":               "WHO requested a change of the DS records of WHAT.",
	"ds.retrying":                "The change of the DS records of WHAT waits for the registrar.",
	"lock-written":               "A lock of WHAT at its registrar was set or lifted.",
	"lock.blocked":               "The change of a lock of WHAT was blocked.",
	"lock.cancelled":             "WHO cancelled the change of a lock of WHAT.",
	"lock.done":                  "WHO changed a lock of WHAT at its registrar.",
	"lock.failed":                "The change of a lock of WHAT failed.",
	"tsig-key.added":             "WHO added the TSIG key WHAT.",
	"tsig-key.removed":           "WHO removed the TSIG key WHAT.",
	"location.added":             "WHO added the location WHAT.",
	"location.changed":           "WHO changed the settings of the location WHAT.",
	"location.removed":           "WHO removed the location WHAT.",
	"location.uplink-added":      "WHO added an uplink to the location WHAT.",
	"location.uplink-removed":    "WHO removed an uplink of the location WHAT.",
	"lock.requested":             "WHO requested a change of a lock of WHAT.",
	"lock.retrying":              "The change of a lock of WHAT waits for the registrar.",
	"host-written":               "The registrar has the addresses of a nameserver of WHAT.",
	"handover.begun":             "WHO began a handover of WHAT.",
	"handover.phase":             "The handover of WHAT has come to another phase.",
	"handover.done":              "The handover of WHAT is done.",
	"handover.allowed":           "WHO allowed the next act in the handover of WHAT.",
	"handover.agreed":            "WHO agreed to differences in the handover of WHAT.",
	"handover.passed":            "WHO passed a safety gate in the handover of WHAT.",
	"handover.retry":             "WHO had the last act in the handover of WHAT begun again.",
	"handover.paused":            "WHO paused the handover of WHAT.",
	"handover.resumed":           "WHO resumed the handover of WHAT.",
	"handover.ended":             "WHO ended the handover of WHAT.",
	"hold.began":                 "WHO stopped all changes at providers and registrars.",
	"hold.ended":                 "WHO released all changes.",
	"hold.released":              "WHO released changes of WHAT.",
	"host.added":                 "WHO added the dynamic host WHAT.",
	"host.changed":               "WHO changed the settings of the dynamic host WHAT.",
	"host.held":                  "A change of WHAT is held.",
	"host.reports-again":         "WHAT reports again.",
	"host.refused":               "A report of WHAT was refused.",
	"host.removed":               "WHO removed the dynamic host WHAT.",
	"host.reported":              "WHAT reported an address.",
	"host.silent":                "WHAT is silent: nothing was reported for too long.",
	"host.visible":               "Every nameserver serves the new address of WHAT.",
	"job.taken-up":               "Work without an owner was taken up.",
	"key.bound":                  "Credentials were sealed for the addresses of their accounts.",
	"key.renewed":                "WHO rotated the key that credentials are sealed with.",
	"nameservers-activated":      "The registrar made the nameservers of WHAT active.",
	"nameservers-saved":          "The registrar saved the nameservers of WHAT.",
	"notification.failed":        "A notification about WHAT could not be delivered.",
	"notification.sent":          "A notification about WHAT was sent.",
	"placement.drift-unresolved": "Drift of WHAT was not resolved.",
	"placement.drifted":          "WHAT was changed at its provider.",
	"placement.unconfirmed":      "The provider does not confirm what was written of WHAT.",
	"placement.unreachable":      "WHAT cannot be compared with its provider.",
	"rdap.failed":                "The registration of WHAT could not be read.",
	"records.written":            "Records of WHAT were written.",
	"request":                    "A request was made to WHAT.",
	"request.failed":             "A request to WHAT failed.",
	"retire.blocked":             "The removal of WHAT from a provider was blocked.",
	"retire.cancelled":           "WHO cancelled the removal of WHAT from a provider.",
	"retire.done":                "WHO removed WHAT from a provider.",
	"retire.failed":              "The removal of WHAT from a provider failed.",
	"retire.requested":           "WHO requested the removal of WHAT from a provider.",
	"retire.retrying":            "The removal of WHAT waits for the provider.",
	"secondary.behind":           "Secondaries of WHAT are behind.",
	"set.changed":                "WHO changed a record set of WHAT.",
	"sync.blocked":               "A sync of WHAT was blocked.",
	"sync.cancelled":             "WHO cancelled a sync of WHAT.",
	"sync.done":                  "WHAT was synced.",
	"sync.failed":                "A sync of WHAT failed.",
	"sync.requested":             "WHO requested a sync of WHAT.",
	"sync.retrying":              "A sync of WHAT waits for its provider.",
	"sync.started":               "A sync of WHAT started.",
	"access.refused":             "Something was refused to WHO.",
	"token.added":                "WHO created the token WHAT.",
	"token.refused":              "The token WHAT came from a network that it does not allow.",
	"token.renewed":              "WHO renewed the token WHAT.",
	"token.revoked":              "WHO revoked the token WHAT.",
	"token.unknown":              "A token that is not valid was refused.",
	"user.granted":               "WHO changed what the user WHAT may do.",
	"user.added":                 "WHO added the user WHAT.",
	"user.password-changed":      "WHAT changed the password.",
	"user.recovered":             "WHAT got a new password on the machine of the service.",
	"user.removed":               "WHO removed the user WHAT.",
	"user.session-ended":         "WHO ended a session.",
	"user.sign-in-failed":        "A sign-in as WHAT was refused.",
	"user.signed-in":             "WHAT signed in.",
	"vantage-point.failed":       "A vantage point could not check WHAT.",
	"zone-removed":               "The provider removed the zone WHAT.",
	"zone.applied":               "WHO applied a definition of WHAT.",
	"zone.created":               "The provider created the zone WHAT.",
	"zone.deleted":               "WHO deleted the zone WHAT.",
	"zone.detached":              "WHO detached WHAT from its definition file.",
	"zone.gathered":              "The records of WHAT were gathered.",
	"zone.imported":              "WHO imported records of WHAT.",
	"zone.restored":              "WHO restored an earlier revision of WHAT.",
	"zone.retired":               "WHO removed WHAT from a provider.",
	"zone.settings-changed":      "WHO changed the settings of WHAT.",
}

// Actions returns the actions of the logbook.
func Actions() []string { return slices.Sorted(maps.Keys(sentences)) }

// Happened returns a line of the logbook as a sentence. An action without a sentence is shown as it is.
func Happened(actor, action, subject string) string {
	what := strings.TrimSuffix(subject, ".")
	who := strings.TrimSuffix(actor, ".")
	switch {
	case who == "service" || who == "":
		who = "The service"
	case who == "host "+what:
		who = "The host itself"
	}
	template, known := sentences[action]
	if !known {
		return Sentence(who) + ": " + action + " " + what
	}
	if strings.HasPrefix(template, "WHO") {
		template = strings.Replace(template, "WHO", who, 1)
	}
	return strings.ReplaceAll(template, "WHAT", what)
}
