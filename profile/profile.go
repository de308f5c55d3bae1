package profile

import (
	"fmt"

	"github.com/yosida95/uritemplate/v3"

	"beacon/core/change"
	"beacon/outcall"
	"beacon/registrar"
)

// Profile describes an interface of a provider, or of a registrar.
type Profile struct {
	Name  string // accounts have it as their kind
	About string
	Caps  change.Caps
	// Questions are what the profile leaves open and should say; it is of use all the same.
	Questions []Fault

	hosts      []Part // further addresses that an account names
	credential credential
	targets    string   // how names in data are written that have no final dot; empty where it is not said
	session    *session // nil where requests carry the credential itself
	errors     errorRules
	rate       float64    // requests a second that are allowed; 0 where it is not said
	remaining  expression // requests that remain, and
	reset      expression // seconds until there are more
	wait       expression // seconds to wait when requests are refused for being too many
	zones      *call
	find       *call
	create     *call
	remove     *call
	look       *call // a small read that tells the change mark
	read       *call
	readName   *call // the records at one name; nil where only whole zones can be read
	write      *call
	verbs      map[string]*call // in place of write, for interfaces with a request for each change
	poll       *call
	rights     *call
	soa        *soaCalls // nil where no field of the SOA record can be set

	registrar *registrarCalls // of a registrar; nil for a provider
}

// Parts returns the parts of the credential that a user gives by name; none where it is one text.
func (p *Profile) Parts() []Part { return p.credential.parts }

// Hosts returns the further addresses that an account of the kind names, besides its own; none for most.
func (p *Profile) Hosts() []Part { return p.hosts }

// OfRegistrar reports whether the profile describes a registrar's interface.
func (p *Profile) OfRegistrar() bool { return p.registrar != nil }

// RegistrarCaps returns what the registrar is like.
func (p *Profile) RegistrarCaps() registrar.Caps { return p.registrar.caps }

// Rate returns the requests a second that the interface allows, or 0 where the profile does not say.
func (p *Profile) Rate() float64 { return p.rate }

// Fault is what is wrong with a profile, and where.
type Fault struct {
	File         string
	Line, Column int
	Message      string
	Remedy       string
}

func (f Fault) Error() string {
	text := fmt.Sprintf("%s:%d:%d: %s.", f.File, f.Line, f.Column, f.Message)
	if f.Remedy != "" {
		text += " " + f.Remedy
	}
	return text
}

// expression is a jq program; empty for none.
type expression string

// let is a value with a name.
type let struct {
	name  string
	value expression
}

// call is one kind of request, with the steps before it.
type call struct {
	host    string // which of the account's further addresses; empty for its own
	method  string
	path    *uritemplate.Template
	headers map[string]expression
	body    expression
	media   string // of the body: json (or empty), form, xml, or the content type of a text
	answer  string // how the answer is read: json, form, xml or text; empty to go by its content type

	before  []*call    // steps that are made first, in this order
	lets    []let      // computed before the request is made
	take    []let      // taken from the answer, for later steps
	undo    *call      // what undoes this step, where a later one fails
	commits bool       // from here on, what was begun counts, and is not undone
	when    expression // the step is left out where it returns false or null
	loop    expression // the step is made once for each of its results
	repeat  bool       // it is safe to repeat
	within  bool       // the pages of the answer are followed within the step
	counts  bool       // it uses how many items came before
	among   bool       // it is one step of several
	opens   bool       // it opens a session, and carries the credential itself
	reads   bool       // it changes nothing, whatever its method

	each    expression // items of the answer
	one     expression // the one thing that the answer is
	next    expression // where the list goes on
	link    bool       // the list goes on where the Link header says
	start   string     // cursor of the first page
	mark    expression
	receipt expression
	done    expression
	failed  expression
}

// errorRules say how failures are told apart beyond their status.
type errorRules struct {
	when    expression // an answer that looks well is a failure
	code    expression
	message expression
	kinds   map[string]outcall.Kind
}

// Variables that every expression may use, in this order: of the answer its status and headers, the zone, and of a list the cursor and the
// number of items before it, and the request that was answered. Those that mean nothing where an expression stands are null.
var variables = []string{"$status", "$headers", "$zone", "$cursor", "$offset", "$request"}
