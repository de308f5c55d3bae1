package wire

import (
	"net/url"

	"beacon/core/delegation"
	"beacon/core/diff"
	"beacon/core/record"
	"beacon/core/rules"
)

// None is the request of a call without a body, and the answer of one without content.
type None struct{}

// Call is one route of /api/v1 as clients call it: what is sent and what comes back. Path has a parameter in each segment that begins
// with a colon.
type Call[In, Out any] struct {
	Method, Path string
	query        url.Values
}

// List is a call that returns a list in pages.
type List[T any] = Call[None, Page[T]]

// With returns the call with query parameters added, names and values in turn.
func (c Call[In, Out]) With(pairs ...string) Call[In, Out] {
	query := url.Values{}
	for name, values := range c.query {
		query[name] = values
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		query.Set(pairs[i], pairs[i+1])
	}
	c.query = query
	return c
}

// Query returns the call's query as it stands in a URL, or "".
func (c Call[In, Out]) Query() string { return c.query.Encode() }

// Users and accounts.
var (
	DoSignIn         = Call[SignIn, SignedIn]{Method: "POST", Path: "/sessions"}
	MakeFirstUser    = Call[FirstUser, UserMade]{Method: "POST", Path: "/first-user"}
	SignOut          = Call[None, None]{Method: "DELETE", Path: "/sessions/current"}
	ListUsers        = List[UserView]{Method: "GET", Path: "/users"}
	RemoveUser       = Call[None, None]{Method: "DELETE", Path: "/users/:name"}
	GrantUser        = Call[GrantsChange, None]{Method: "PUT", Path: "/users/:name/grants"}
	ShowMe           = Call[None, Me]{Method: "GET", Path: "/me"}
	ListTokens       = List[TokenView]{Method: "GET", Path: "/tokens"}
	AddToken         = Call[NewToken, TokenMade]{Method: "POST", Path: "/tokens"}
	RenewToken       = Call[TokenRenewal, TokenMade]{Method: "POST", Path: "/tokens/:name/renewals"}
	RevokeToken      = Call[None, None]{Method: "DELETE", Path: "/tokens/:name"}
	ChangePassword   = Call[PasswordChange, None]{Method: "PUT", Path: "/users/current/password"}
	ListSessions     = List[Session]{Method: "GET", Path: "/users/current/sessions"}
	EndSession       = Call[None, None]{Method: "DELETE", Path: "/users/current/sessions/:id"}
	AddUser          = Call[NewUser, UserAdded]{Method: "POST", Path: "/users"}
	ListAccounts     = List[AccountView]{Method: "GET", Path: "/accounts"}
	AddAccount       = Call[NewAccount, AccountAdded]{Method: "POST", Path: "/accounts"}
	RotateCredential = Call[NewCredential, AccountAdded]{Method: "PUT", Path: "/accounts/:name/credential"}
	RemoveAccount    = Call[None, None]{Method: "DELETE", Path: "/accounts/:name"}
	VerifyAccount    = Call[Verification, VerificationRun]{Method: "POST", Path: "/accounts/:name/verifications"}
	ListVerified     = List[VerificationRun]{Method: "GET", Path: "/accounts/:name/verifications"}
	ShowVerified     = Call[None, VerificationRun]{Method: "GET", Path: "/verifications/:id"}
	ListRemoteZones  = List[RemoteZone]{Method: "GET", Path: "/accounts/:name/zones"}
	ListHoldings     = List[Registration]{Method: "GET", Path: "/accounts/:name/registrations"}
	ListKinds        = List[Kind]{Method: "GET", Path: "/kinds"}
)

// Zones: what they should contain.
var (
	ListZones          = List[ZoneView]{Method: "GET", Path: "/zones"}
	ShowZone           = Call[None, ZoneView]{Method: "GET", Path: "/zones/:name"}
	ListRecords        = List[record.Record]{Method: "GET", Path: "/zones/:name/records"}.With("limit", "5000")
	ListFindings       = List[rules.Found]{Method: "GET", Path: "/zones/:name/findings"}
	ListRevisions      = List[Revision]{Method: "GET", Path: "/zones/:name/revisions"}
	CompareRevisions   = Call[None, Compared]{Method: "GET", Path: "/zones/:name/comparison"}
	ListNameChanges    = List[NameChange]{Method: "GET", Path: "/zones/:name/history"}
	RestoreRevision    = Call[Restore, Revision]{Method: "POST", Path: "/zones/:name/restorations"}
	ImportZone         = Call[Import, Imported]{Method: "POST", Path: "/zones/:name/imports"}
	ShowDefinition     = Call[None, ZoneDefinition]{Method: "GET", Path: "/zones/:name/definition"}
	DetachZone         = Call[None, ZoneDefinition]{Method: "POST", Path: "/zones/:name/detachment"}
	SetZoneSettings    = Call[ZoneSettings, ZoneSettings]{Method: "PUT", Path: "/zones/:name/settings"}
	ApplyDefinitions   = Call[ApplyRequest, Page[Applied]]{Method: "POST", Path: "/definitions"}
	GenerateDefinition = Call[GenerateRequest, Generated]{Method: "POST", Path: "/generated-definitions"}
	ShowSet            = Call[None, SetView]{Method: "GET", Path: "/zones/:name/sets/:owner/:type"}
	PutSet             = Call[SetRequest, SetWritten]{Method: "PUT", Path: "/zones/:name/sets/:owner/:type"}
	RemoveSet          = Call[SetRequest, SetWritten]{Method: "DELETE", Path: "/zones/:name/sets/:owner/:type"}
	ShowDraft          = Call[None, Draft]{Method: "GET", Path: "/zones/:name/draft"}
	EditDraft          = Call[DraftChange, Draft]{Method: "POST", Path: "/zones/:name/draft/edits"}
	DoAcceptDraft      = Call[AcceptDraft, Revision]{Method: "POST", Path: "/zones/:name/draft/acceptance"}
	DiscardDraft       = Call[None, None]{Method: "DELETE", Path: "/zones/:name/draft"}
	SearchRecords      = List[Hit]{Method: "GET", Path: "/records"}
	ListOperations     = List[Operation]{Method: "GET", Path: "/operations"}
	ReplaceRecords     = Call[ReplaceRequest, Replaced]{Method: "POST", Path: "/operations"}
	UndoOperation      = Call[None, Replaced]{Method: "POST", Path: "/operations/:id/undo"}
	SyncOperation      = Call[None, Page[SyncView]]{Method: "POST", Path: "/operations/:id/syncs"}
)

// Zones at their providers.
var (
	ListPlacements  = List[PlacementView]{Method: "GET", Path: "/placements"}
	ListDifferences = List[Difference]{Method: "GET", Path: "/zones/:name/differences"}
	StartSync       = Call[SyncRequest, Page[SyncView]]{Method: "POST", Path: "/zones/:name/syncs"}
	ShowSync        = Call[None, SyncView]{Method: "GET", Path: "/syncs/:id"}
	CancelSync      = Call[Cancellation, SyncView]{Method: "POST", Path: "/syncs/:id/cancellation"}
	AdoptDrift      = Call[Adoption, Page[diff.Item]]{Method: "POST", Path: "/zones/:name/adoptions"}
	PreviewDelete   = Call[DeleteRequest, Deleted]{Method: "POST", Path: "/zones/:name/deletion-preview"}
	DeleteZone      = Call[DeleteRequest, Deleted]{Method: "POST", Path: "/zones/:name/deletion"}
	PreviewRetire   = Call[RetireRequest, Retired]{Method: "POST", Path: "/zones/:name/retirement-preview"}
	Retire          = Call[RetireRequest, Act]{Method: "POST", Path: "/zones/:name/retirements"}
)

// Domains and their delegation.
var (
	ShowToday        = Call[None, Today]{Method: "GET", Path: "/today"}
	ListDomains      = List[DomainView]{Method: "GET", Path: "/domains"}
	CheckDomain      = Call[None, delegation.Report]{Method: "POST", Path: "/domains/:name/checks"}
	ShowReport       = Call[None, delegation.Report]{Method: "GET", Path: "/domains/:name/report"}
	StartBriefCheck  = Call[None, BriefChecks]{Method: "POST", Path: "/brief-checks"}
	ShowBriefCheck   = Call[None, BriefChecks]{Method: "GET", Path: "/brief-checks"}
	PreviewDelegate  = Call[DelegateRequest, Delegated]{Method: "POST", Path: "/domains/:name/delegation-preview"}
	ForecastHandover = Call[ForecastRequest, Forecast]{Method: "POST", Path: "/domains/:name/handover-forecast"}
	ListHandovers    = List[HandoverSummary]{Method: "GET", Path: "/handovers"}
	ShowHandover     = Call[None, Handover]{Method: "GET", Path: "/domains/:name/handover"}
	BeginHandover    = Call[HandoverRequest, Handover]{Method: "POST", Path: "/domains/:name/handovers"}
	NextOfHandover   = Call[HandoverWord, Handover]{Method: "POST", Path: "/domains/:name/handover/words"}
	PauseHandover    = Call[HandoverEnd, Handover]{Method: "POST", Path: "/domains/:name/handover/pause"}
	ResumeHandover   = Call[HandoverEnd, Handover]{Method: "POST", Path: "/domains/:name/handover/resumption"}
	ShowHolder       = Call[None, Holder]{Method: "GET", Path: "/domains/:name/holder"}
	BeginGathering   = Call[GatheringRequest, Gathering]{Method: "POST", Path: "/domains/:name/gatherings"}
	ShowGathering    = Call[None, Gathering]{Method: "GET", Path: "/domains/:name/gathering"}
	AcceptGathering  = Call[GatheringAcceptance, Imported]{Method: "POST", Path: "/domains/:name/gathering/acceptance"}
	AbandonHandover  = Call[HandoverEnd, Handover]{Method: "POST", Path: "/domains/:name/handover/abandonment"}
	ReturnHandover   = Call[HandoverEnd, Handover]{Method: "POST", Path: "/domains/:name/handover/return"}
	Delegate         = Call[DelegateRequest, Act]{Method: "POST", Path: "/domains/:name/delegations"}
	PreviewDS        = Call[DSRequest, DSChange]{Method: "POST", Path: "/domains/:name/ds-preview"}
	PreviewLock      = Call[LockRequest, LockChange]{Method: "POST", Path: "/domains/:name/lock-preview"}
	ChangeLock       = Call[LockRequest, Act]{Method: "POST", Path: "/domains/:name/lock-changes"}
	ChangeDS         = Call[DSRequest, Act]{Method: "POST", Path: "/domains/:name/ds-changes"}
	ListActs         = List[Act]{Method: "GET", Path: "/acts"}
	ShowHold         = Call[None, Hold]{Method: "GET", Path: "/hold"}
	BeginHold        = Call[HoldRequest, Hold]{Method: "POST", Path: "/hold"}
	ReleaseHold      = Call[HoldRelease, Hold]{Method: "POST", Path: "/hold/release"}
	CancelAct        = Call[Cancellation, Act]{Method: "POST", Path: "/acts/:id/cancellation"}
	ShowAct          = Call[None, Act]{Method: "GET", Path: "/acts/:id"}
)

// Dynamic hosts, and what happened.
var (
	ListHosts  = List[HostView]{Method: "GET", Path: "/hosts"}
	AddHost    = Call[NewHost, HostAdded]{Method: "POST", Path: "/hosts"}
	ShowHost   = Call[None, HostView]{Method: "GET", Path: "/hosts/:name"}
	ChangeHost = Call[HostSettings, HostView]{Method: "PUT", Path: "/hosts/:name"}
	RemoveHost = Call[None, None]{Method: "DELETE", Path: "/hosts/:name"}

	ListLocations  = List[LocationView]{Method: "GET", Path: "/locations"}
	AddLocation    = Call[NewLocation, LocationAdded]{Method: "POST", Path: "/locations"}
	ShowLocation   = Call[None, LocationView]{Method: "GET", Path: "/locations/:location"}
	ChangeLocation = Call[LocationSettings, LocationView]{Method: "PUT", Path: "/locations/:location"}
	RemoveLocation = Call[None, None]{Method: "DELETE", Path: "/locations/:location"}
	AddUplink      = Call[NewUplink, UplinkToken]{Method: "POST", Path: "/locations/:location/uplinks"}
	ChangeUplink   = Call[UplinkSettings, LocationView]{Method: "PUT", Path: "/locations/:location/uplinks/:uplink"}
	ListTSIGKeys   = List[TSIGKeyView]{Method: "GET", Path: "/tsig-keys"}
	AddTSIGKey     = Call[NewTSIGKey, TSIGKeyAdded]{Method: "POST", Path: "/tsig-keys"}
	RemoveTSIGKey  = Call[None, None]{Method: "DELETE", Path: "/tsig-keys/:key"}
	RemoveUplink   = Call[None, None]{Method: "DELETE", Path: "/locations/:location/uplinks/:uplink"}

	ListEntries  = List[Entry]{Method: "GET", Path: "/logbook"}
	ListChannels = List[ChannelView]{Method: "GET", Path: "/channels"}
	TestChannel  = Call[None, None]{Method: "POST", Path: "/channels/:name/tests"}
	ShowClock    = Call[None, ClockNow]{Method: "GET", Path: "/clock"}
	StepClock    = Call[ClockStep, ClockNow]{Method: "POST", Path: "/clock/steps"}
)
