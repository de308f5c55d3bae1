package definition

// formerKeys are keys by the names that they had before the first release, with those that they have now.
var formerKeys = map[string]string{"at": "providers", "leave": "ignore", "attributes": "attributes", "only_ours": "keep_existing", "sites": "websites",
	"label": "description", "about": "description", "needs": "parameters", "least": "min", "most": "max"}

// formerDrift are the words for changes made at a provider by the names that they had before the first release.
var formerDrift = map[string]string{"ask": DriftManual, "put back": DriftRevert}
