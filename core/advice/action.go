package advice

import (
	"maps"
	"slices"
)

// Action is something a person can do, with the client or in the console.
type Action string

// The actions that are advised, by what they are about.
const (
	SignIn       Action = "sign-in"
	ProveFactor  Action = "prove-factor" // show a second factor again
	ListFactors  Action = "list-factors"
	AddFactor    Action = "add-factor"
	ResetFactors Action = "reset-factors" // of somebody who lost them
	ListAccounts Action = "list-accounts"
	AllowRole    Action = "allow-role"
	ListTokens   Action = "list-tokens"

	ListRules       Action = "list-rules"
	ListProposals   Action = "list-proposals"
	ListEmergencies Action = "list-emergencies"

	ListDevices       Action = "list-devices"
	ShowDevice        Action = "show-device"
	TrustDevice       Action = "trust-device" // accept its host key
	ReplaceDevice     Action = "replace-device"
	ListSessions      Action = "list-sessions" // who is on a device
	ClearCandidate    Action = "clear-candidate"
	ReadConfig        Action = "read-config"
	Compare           Action = "compare"
	ListRevisions     Action = "list-revisions"
	ListStartups      Action = "list-startups" // revisions of what is saved to startup
	AskHolder         Action = "ask-holder"    // who has a device reserved
	ReleaseDevice     Action = "release-device"
	RestorePart       Action = "restore-part"
	Restore           Action = "restore"
	ListSnapshots     Action = "list-snapshots"
	ShowSnapshot      Action = "show-snapshot"
	UnprotectSnapshot Action = "unprotect-snapshot"
	ListStencils      Action = "list-stencils"
	ShowStencil       Action = "show-stencil"
	ListOutside       Action = "list-outside"
	ShowOutside       Action = "show-outside"
	ListSilences      Action = "list-silences"
	ListReceivers     Action = "list-receivers"
	ListArchives      Action = "list-archives"
	AddArchive        Action = "add-archive"
	TrustArchive      Action = "trust-archive"
	VerifyArchive     Action = "verify-archive"
	ListCopies        Action = "list-copies"
	MendFromCopy      Action = "mend-from-copy"
	VerifyRecord      Action = "verify-record"
	VerifyAgainst     Action = "verify-against" // a checkpoint that was stored elsewhere
	WatchRecord       Action = "watch-record"   // from another machine
	SignCheckpoint    Action = "sign-checkpoint"
	ListSearches      Action = "list-searches"
	SearchHelp        Action = "search-help"

	ListChanges       Action = "list-changes"
	OpenChange        Action = "open-change"
	ShowChange        Action = "show-change"
	ShareChange       Action = "share-change"
	Stage             Action = "stage"
	StageAlso         Action = "stage-also" // one value beside those that are there
	StageOnly         Action = "stage-only" // instead of those that are there
	StageDelete       Action = "stage-delete"
	TakeBack          Action = "take-back"      // an edit
	TakeBackPath      Action = "take-back-path" // what is staged at a path
	DecideConflict    Action = "decide-conflict"
	PreviewChange     Action = "preview-change"
	DropChange        Action = "drop-change"
	AskApproval       Action = "ask-approval"
	ApproveChange     Action = "approve-change"
	Commit            Action = "commit"
	CommitCutOff      Action = "commit-cut-off"   // though a device will be cut off
	CommitEmergency   Action = "commit-emergency" // though others did not agree
	ConfirmAllTheSame Action = "confirm-despite-probes"
	Unschedule        Action = "unschedule"
	ShowSchedule      Action = "show-schedule"
	WatchCommit       Action = "watch-commit"
	ListCommits       Action = "list-commits"
	SettleChange      Action = "settle-change"
	SettleLost        Action = "settle-lost" // a hold that the records know nothing of
	UndoChange        Action = "undo-change"
	UndoPerson        Action = "undo-person"
	ListExpectations  Action = "list-expectations"
	DropExpectation   Action = "drop-expectation"
	AcceptEffect      Action = "accept-effect" // of a filter, which nobody expects
)

// params names the arguments of each action, in their order.
var params = map[Action][]string{
	SignIn: nil, ProveFactor: nil, ListFactors: nil, AddFactor: nil, ResetFactors: {"account"}, ListAccounts: nil,
	AllowRole: {"account", "role"}, ListTokens: nil,
	ListRules: nil, ListProposals: nil, ListEmergencies: nil,
	ListDevices: nil, ShowDevice: {"device"}, TrustDevice: {"device"},
	ReplaceDevice: {"device", "address", "user"}, ListSessions: {"device"}, ClearCandidate: {"device"},
	ReadConfig: {"device", "path"}, Compare: {"left", "right"}, ListRevisions: {"device"},
	ListStartups: {"device"}, AskHolder: {"device"}, ReleaseDevice: {"device"},
	RestorePart: {"device", "place", "path"}, Restore: {"device"},
	ListSnapshots: nil, ShowSnapshot: {"snapshot"}, UnprotectSnapshot: {"snapshot"},
	ListStencils: nil, ShowStencil: {"stencil"},
	ListOutside: nil, ShowOutside: {"number"}, ListSilences: nil, ListReceivers: nil,
	ListArchives: nil, AddArchive: nil, TrustArchive: {"archive"}, VerifyArchive: {"archive"},
	ListCopies: nil, MendFromCopy: {"copy"},
	VerifyRecord: nil, VerifyAgainst: nil, WatchRecord: nil, SignCheckpoint: nil, ListSearches: nil, SearchHelp: nil,
	ListChanges: nil, OpenChange: nil, ShowChange: {"change"}, ShareChange: {"change", "account"},
	Stage: {"change"}, StageAlso: {"change", "device", "path", "value"},
	StageOnly:   {"change", "device", "path", "value"},
	StageDelete: {"change", "device", "path"}, TakeBack: {"change", "edit"},
	TakeBackPath: {"change", "device", "path"}, DecideConflict: {"change", "device", "path"},
	PreviewChange: {"change"}, DropChange: {"change"}, AskApproval: {"change"}, ApproveChange: {"change"},
	Commit: {"change"}, CommitCutOff: {"change", "device"}, CommitEmergency: {"change"},
	ConfirmAllTheSame: {"change"}, Unschedule: {"change"}, ShowSchedule: nil, WatchCommit: {"change"},
	ListCommits: nil, SettleChange: {"change"}, SettleLost: {"change"}, UndoChange: {"change"}, UndoPerson: nil,
	ListExpectations: {"change"}, DropExpectation: {"change", "number"},
	AcceptEffect: {"change", "device", "place"},
}

// Actions are all there are, sorted.
func Actions() []Action { return slices.Sorted(maps.Keys(params)) }

// Params are the names of an action's arguments, in their order.
func (a Action) Params() []string { return params[a] }
