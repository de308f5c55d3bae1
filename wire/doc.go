// Package wire defines what travels over /api/v1: requests, answers and problems, each once. The rooms of the service take and
// return these types, the routes send them, the OpenAPI document and the console's types are read off them, and the commands
// decode them. Each file is a noun of the API. Nothing is decided here, and nothing but the core is imported.
package wire
