package profile

// formerKeys are keys by the names that they had before the first release, with those that they have now.
var formerKeys = map[string]string{"about": "description", "extras": "attributes", "least": "min"}
