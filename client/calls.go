// Code generated from the API's routes by make describe. DO NOT EDIT.

package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"oakenlatch/core/complete"
	"oakenlatch/core/flow"
	"oakenlatch/wire"
)

// AcceptDevice asks POST /api/v1/changes/:number/accept-device: accept a device as it is that holds neither the
// former nor the new configuration. It needs commit.
func (c *Client) AcceptDevice(ctx context.Context, change int64, in wire.Accept) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/accept-device", in: in}, &out)
	return out, err
}

// AcceptEffect asks POST /api/v1/changes/:number/accept: accept by its name what the change does at a place (a
// filter, or INTERFACE DIRECTION) though nobody expects it, as it is now. It needs stage.
func (c *Client) AcceptEffect(ctx context.Context, change int64, in wire.AcceptEffect) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/accept", in: in}, nil)
}

// AddAccount asks POST /api/v1/accounts: make an account. It needs administer, on all devices; a second factor shown
// again, by who has one.
func (c *Client) AddAccount(ctx context.Context, in wire.NewAccount) (out wire.Account, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/accounts", in: in}, &out)
	return out, err
}

// AddArchive asks POST /api/v1/archives: add an archive. It needs administer, on all devices.
func (c *Client) AddArchive(ctx context.Context, in wire.NewArchive) (out wire.Archive, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/archives", in: in}, &out)
	return out, err
}

// AddDevice asks POST /api/v1/devices: add a device. It needs administer, on all devices.
func (c *Client) AddDevice(ctx context.Context, in wire.NewDevice) (out wire.Device, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/devices", in: in}, &out)
	return out, err
}

// AddExpectation asks POST /api/v1/changes/:number/expectations: state what traffic the change is meant to permit or
// deny (docs/traffic.md). It needs stage.
func (c *Client) AddExpectation(ctx context.Context, change int64, in wire.NewExpectation) (out wire.Expectation, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/expectations", in: in}, &out)
	return out, err
}

// AddNote asks POST /api/v1/changes/:number/notes: write a note down with the change. It needs stage.
func (c *Client) AddNote(ctx context.Context, change int64, in wire.NewNote) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/notes", in: in}, &out)
	return out, err
}

// AddReceiver asks POST /api/v1/receivers: add a receiver: syslog, a webhook, or mail. It needs administer, on all
// devices.
func (c *Client) AddReceiver(ctx context.Context, in wire.NewReceiver) (out wire.Receiver, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/receivers", in: in}, &out)
	return out, err
}

// AddRule asks POST /api/v1/rules: make a rule. It needs administer, on all devices; a second factor shown again, by
// who has one.
func (c *Client) AddRule(ctx context.Context, in wire.NewRule) (out wire.ApprovalRule, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/rules", in: in}, &out)
	return out, err
}

// AddSilence asks POST /api/v1/silences: say of a path, on a device or on all, that it always moves. It needs stage.
func (c *Client) AddSilence(ctx context.Context, in wire.NewSilence) (out wire.Silence, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/silences", in: in}, &out)
	return out, err
}

// AddToken asks POST /api/v1/tokens: make a token for a machine, that may what one may oneself, or less; it is given
// this once. It needs an account; a second factor shown again, by who has one.
func (c *Client) AddToken(ctx context.Context, in wire.NewToken) (out wire.Token, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/tokens", in: in}, &out)
	return out, err
}

// AdoptOutside asks POST /api/v1/outside/:number/adopt: take an outside change as it is, with a note. It needs stage.
func (c *Client) AdoptOutside(ctx context.Context, outside int64, in wire.Adopt) (out wire.Outside, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/outside/" + strconv.FormatInt(outside, 10) + "/adopt", in: in}, &out)
	return out, err
}

// AgreeToProposal asks POST /api/v1/proposals/:id/agreement: agree to one that somebody else proposed; with the last
// approval it is done. It needs administer, on all devices; a second factor shown again, by who has one.
func (c *Client) AgreeToProposal(ctx context.Context, proposal int64) (out wire.Agreed, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/proposals/" + strconv.FormatInt(proposal, 10) + "/agreement"}, &out)
	return out, err
}

// ApproveChange asks POST /api/v1/changes/:number/approval: agree to the change as a preview showed it; that falls
// when anything moves. It needs approve.
func (c *Client) ApproveChange(ctx context.Context, change int64, in wire.Approve) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/approval", in: in}, nil)
}

// ArchiveHostKey asks GET /api/v1/archives/:name/host-key: the host key the archive's server shows now. It needs
// administer, on all devices.
func (c *Client) ArchiveHostKey(ctx context.Context, archive string) (out wire.HostKey, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/archives/" + url.PathEscape(archive) + "/host-key"}, &out)
	return out, err
}

// AskForApproval asks POST /api/v1/changes/:number/ask: ask others to agree to the change; those who may approve it
// see it from then on. It needs stage.
func (c *Client) AskForApproval(ctx context.Context, change int64, in wire.NewNote) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/ask", in: in}, nil)
}

// AskForDevice asks POST /api/v1/devices/:name/reservation/asks: ask whoever reserved the device. It needs stage.
func (c *Client) AskForDevice(ctx context.Context, device string, in wire.NewNote) (out wire.Reservation, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/devices/" + url.PathEscape(device) + "/reservation/asks", in: in}, &out)
	return out, err
}

// Attention asks GET /api/v1/attention: what needs a decision now. It needs read.
func (c *Client) Attention(ctx context.Context) (out wire.Attention, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/attention"}, &out)
	return out, err
}

// AuditPaceQuery says what [Client.AuditPace] is asked for. What is left out does not matter.
type AuditPaceQuery struct {
	// A line to search by (docs/audit.md).
	Search string
}

func (q AuditPaceQuery) values() url.Values {
	v := url.Values{}
	if q.Search != "" {
		v.Set("q", q.Search)
	}
	return v
}

// AuditPace asks GET /api/v1/audit/pace: when what a line finds happened, and by whom, counted. It needs audit.
func (c *Client) AuditPace(ctx context.Context, query AuditPaceQuery) (out wire.Pace, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/audit/pace", query: query.values()}, &out)
	return out, err
}

// BeginCommit asks POST /api/v1/changes/:number/begin: commit what is prepared. It needs commit.
func (c *Client) BeginCommit(ctx context.Context, change int64) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/begin"}, &out)
	return out, err
}

// BeginFactor asks POST /api/v1/me/factors: begin to set up a second factor. It needs an account.
func (c *Client) BeginFactor(ctx context.Context, in wire.NewFactor) (out wire.FactorBegun, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/me/factors", in: in}, &out)
	return out, err
}

// BindStencil asks POST /api/v1/stencils/:name/bind: stage what the stencil sets on devices. It needs stage.
func (c *Client) BindStencil(ctx context.Context, stencil string, in wire.Bind) (out []wire.Loaded, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/stencils/" + url.PathEscape(stencil) + "/bind", in: in}, &out)
	return out, err
}

// BlameQuery says what [Client.Blame] is asked for. What is left out does not matter.
type BlameQuery struct {
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
}

func (q BlameQuery) values() url.Values {
	v := url.Values{}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	return v
}

// Blame asks GET /api/v1/devices/:name/blame: who last set each line, at a path and below it. It needs read.
func (c *Client) Blame(ctx context.Context, device string, query BlameQuery) (out wire.Blame, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/blame", query: query.values()}, &out)
	return out, err
}

// CarryConfiguration asks POST /api/v1/carry: stage one device's configuration on another; what is its own stays. It
// needs stage.
func (c *Client) CarryConfiguration(ctx context.Context, in wire.NewCarry) (out wire.Carried, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/carry", in: in}, &out)
	return out, err
}

// ChangeReportQuery says what [Client.ChangeReport] is asked for. What is left out does not matter.
type ChangeReportQuery struct {
	// The form of the answer.
	Format string
}

func (q ChangeReportQuery) values() url.Values {
	v := url.Values{}
	if q.Format != "" {
		v.Set("format", q.Format)
	}
	return v
}

// ChangeReport asks GET /api/v1/changes/:number/report: a change's report: what is planned before its commit, what
// happened after it; format is pdf or html. It needs read.
func (c *Client) ChangeReport(ctx context.Context, change int64, query ChangeReportQuery) (*Download, error) {
	return c.download(ctx, request{method: http.MethodGet, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/report", query: query.values()})
}

// ClearCandidate asks DELETE /api/v1/devices/:name/candidate: discard what somebody left in the device's candidate;
// it goes on record first. It needs administer.
func (c *Client) ClearCandidate(ctx context.Context, device string) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/devices/" + url.PathEscape(device) + "/candidate"}, nil)
}

// CloseAccount asks DELETE /api/v1/accounts/:account: close an account permanently: its sessions and tokens end, its
// name stays in the record. It needs administer, on all devices; a second factor shown again, by who has one.
func (c *Client) CloseAccount(ctx context.Context, account string) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/accounts/" + url.PathEscape(account)}, nil)
}

// CommitChange asks POST /api/v1/changes/:number/commit: commit on hold. It needs commit.
func (c *Client) CommitChange(ctx context.Context, change int64, in wire.NewCommit) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/commit", in: in}, &out)
	return out, err
}

// CompareConfigurationsQuery says what [Client.CompareConfigurations] is asked for. What is left out does not matter.
type CompareConfigurationsQuery struct {
	// A configuration: DEVICE@PLACE.
	A string
	// Another, to compare with.
	B string
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
	// How many unchanged neighbours are shown beside each changed line.
	Context *int
	// In another form.
	As string
}

func (q CompareConfigurationsQuery) values() url.Values {
	v := url.Values{}
	if q.A != "" {
		v.Set("a", q.A)
	}
	if q.B != "" {
		v.Set("b", q.B)
	}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	if q.Context != nil {
		v.Set("context", strconv.Itoa(*q.Context))
	}
	if q.As != "" {
		v.Set("as", q.As)
	}
	return v
}

// CompareConfigurations asks GET /api/v1/compare: any two configurations; a and b are DEVICE@PLACE, with a place as
// for config; context, path, and as another form (unified, edit-config, yang-patch, yang-patch-json). It needs read.
func (c *Client) CompareConfigurations(ctx context.Context, query CompareConfigurationsQuery) (out wire.Comparison, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/compare", query: query.values()}, &out)
	return out, err
}

// CompareFiltersQuery says what [Client.CompareFilters] is asked for. What is left out does not matter.
type CompareFiltersQuery struct {
	// A configuration: DEVICE@PLACE.
	A string
	// Another, to compare with.
	B string
}

func (q CompareFiltersQuery) values() url.Values {
	v := url.Values{}
	if q.A != "" {
		v.Set("a", q.A)
	}
	if q.B != "" {
		v.Set("b", q.B)
	}
	return v
}

// CompareFilters asks GET /api/v1/filters/compare: how two filters differ, over all packets; a and b are
// DEVICE/FILTER or DEVICE@PLACE/FILTER. It needs read.
func (c *Client) CompareFilters(ctx context.Context, query CompareFiltersQuery) (out wire.FilterComparison, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/filters/compare", query: query.values()}, &out)
	return out, err
}

// CompareFleetQuery says what [Client.CompareFleet] is asked for. What is left out does not matter.
type CompareFleetQuery struct {
	// A place that a configuration can be read from: running, startup, candidate, rev:N, startup:N, at:TIME,
	// snapshot:NAME, before:N, change:N or archive:N.
	From string
	// A place as for from.
	To string
	// The name of a site.
	Site string
	// The name of a device; where several are meant, with commas between.
	Device string
}

func (q CompareFleetQuery) values() url.Values {
	v := url.Values{}
	if q.From != "" {
		v.Set("from", q.From)
	}
	if q.To != "" {
		v.Set("to", q.To)
	}
	if q.Site != "" {
		v.Set("site", q.Site)
	}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	return v
}

// CompareFleet asks GET /api/v1/compare/fleet: many devices between two moments, in sum; from and to are
// snapshot:NAME, at:TIME or running; of a site, or of devices. It needs read.
func (c *Client) CompareFleet(ctx context.Context, query CompareFleetQuery) (out wire.FleetComparison, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/compare/fleet", query: query.values()}, &out)
	return out, err
}

// CompletePathQuery says what [Client.CompletePath] is asked for. What is left out does not matter.
type CompletePathQuery struct {
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
	// The number of a change.
	Change int64
}

func (q CompletePathQuery) values() url.Values {
	v := url.Values{}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	if q.Change != 0 {
		v.Set("change", strconv.FormatInt(q.Change, 10))
	}
	return v
}

// CompletePath asks GET /api/v1/devices/:name/paths: how a path goes on by the device's schema: names, keys, types,
// values. It needs read.
func (c *Client) CompletePath(ctx context.Context, device string, query CompletePathQuery) (out []complete.Hint, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/paths", query: query.values()}, &out)
	return out, err
}

// CompleteSearchQuery says what [Client.CompleteSearch] is asked for. What is left out does not matter.
type CompleteSearchQuery struct {
	// A line to search by (docs/audit.md).
	Search string
}

func (q CompleteSearchQuery) values() url.Values {
	v := url.Values{}
	if q.Search != "" {
		v.Set("q", q.Search)
	}
	return v
}

// CompleteSearch asks GET /api/v1/audit/complete: how a line to search by may go on. It needs audit.
func (c *Client) CompleteSearch(ctx context.Context, query CompleteSearchQuery) (out wire.SearchHints, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/audit/complete", query: query.values()}, &out)
	return out, err
}

// ConfirmChange asks POST /api/v1/changes/:number/confirm: confirm a commit on hold; answers when it is decided. It
// needs commit.
func (c *Client) ConfirmChange(ctx context.Context, change int64, in wire.Confirm) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/confirm", in: in}, &out)
	return out, err
}

// CopyNow asks POST /api/v1/copies: copy now; a job. It needs commit.
func (c *Client) CopyNow(ctx context.Context, in wire.NewCopy) (out wire.Job, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/copies", in: in}, &out)
	return out, err
}

// DecideConflict asks POST /api/v1/changes/:number/decide: keep one side where the change and its device both changed
// the same. It needs stage.
func (c *Client) DecideConflict(ctx context.Context, change int64, in wire.Decide) (out wire.Conflict, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/decide", in: in}, &out)
	return out, err
}

// Describe asks GET /api/v1/openapi.json: this description (OpenAPI 3.1). It needs nothing.
func (c *Client) Describe(ctx context.Context) (out map[string]any, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/openapi.json"}, &out)
	return out, err
}

// DeviceClock asks GET /api/v1/devices/:name/clock: the device's clock against the service's, read now. It needs
// read.
func (c *Client) DeviceClock(ctx context.Context, device string) (out wire.Clock, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/clock"}, &out)
	return out, err
}

// DeviceConfigQuery says what [Client.DeviceConfig] is asked for. What is left out does not matter.
type DeviceConfigQuery struct {
	// A place that a configuration can be read from: running, startup, candidate, rev:N, startup:N, at:TIME,
	// snapshot:NAME, before:N, change:N or archive:N.
	From string
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
}

func (q DeviceConfigQuery) values() url.Values {
	v := url.Values{}
	if q.From != "" {
		v.Set("from", q.From)
	}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	return v
}

// DeviceConfig asks GET /api/v1/devices/:name/config: a device's configuration; from is running, startup, candidate,
// rev:N, startup:N, at:TIME, snapshot:NAME, before:N, change:N or archive:N. It needs read.
func (c *Client) DeviceConfig(ctx context.Context, device string, query DeviceConfigQuery) (out wire.Config, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/config", query: query.values()}, &out)
	return out, err
}

// DeviceDifferenceQuery says what [Client.DeviceDifference] is asked for. What is left out does not matter.
type DeviceDifferenceQuery struct {
	// A place that a configuration can be read from: running, startup, candidate, rev:N, startup:N, at:TIME,
	// snapshot:NAME, before:N, change:N or archive:N.
	From string
	// A place as for from.
	To string
	// How many unchanged neighbours are shown beside each changed line.
	Context *int
}

func (q DeviceDifferenceQuery) values() url.Values {
	v := url.Values{}
	if q.From != "" {
		v.Set("from", q.From)
	}
	if q.To != "" {
		v.Set("to", q.To)
	}
	if q.Context != nil {
		v.Set("context", strconv.Itoa(*q.Context))
	}
	return v
}

// DeviceDifference asks GET /api/v1/devices/:name/difference: two of a device's configurations compared, by default
// what its startup lacks of running; from and to are as for config. It needs read.
func (c *Client) DeviceDifference(ctx context.Context, device string, query DeviceDifferenceQuery) (out wire.Difference, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/difference", query: query.values()}, &out)
	return out, err
}

// DeviceHostKey asks GET /api/v1/devices/:name/host-key: the host key the device shows now. It needs administer.
func (c *Client) DeviceHostKey(ctx context.Context, device string) (out wire.HostKey, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/host-key"}, &out)
	return out, err
}

// DeviceModules asks GET /api/v1/devices/:name/modules: the YANG modules the device handed out. It needs read.
func (c *Client) DeviceModules(ctx context.Context, device string) (out wire.Modules, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/modules"}, &out)
	return out, err
}

// DeviceTimeline asks GET /api/v1/devices/:name/timeline: what happened to a device, newest first. It needs read.
func (c *Client) DeviceTimeline(ctx context.Context, device string) (out []wire.Moment, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/timeline"}, &out)
	return out, err
}

// DropChange asks POST /api/v1/changes/:number/drop: abandon a change that is on no device. It needs stage.
func (c *Client) DropChange(ctx context.Context, change int64) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/drop"}, nil)
}

// DropExpectation asks DELETE /api/v1/changes/:number/expectations/:id: take an expectation back. It needs stage.
func (c *Client) DropExpectation(ctx context.Context, change int64, expectation int64) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/expectations/" + strconv.FormatInt(expectation, 10)}, nil)
}

// DropFactor asks DELETE /api/v1/me/factors/:id: take a second factor away. It needs an account; a second factor
// shown again, by who has one.
func (c *Client) DropFactor(ctx context.Context, factor string) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/me/factors/" + url.PathEscape(factor)}, nil)
}

// DropLostHold asks DELETE /api/v1/lost-holds/:change: take a hold that the records know nothing of off the list,
// once its devices were looked at. It needs administer, on all devices.
func (c *Client) DropLostHold(ctx context.Context, change int64) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/lost-holds/" + strconv.FormatInt(change, 10)}, nil)
}

// DropProposal asks DELETE /api/v1/proposals/:id: drop one. It needs administer, on all devices.
func (c *Client) DropProposal(ctx context.Context, proposal int64) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/proposals/" + strconv.FormatInt(proposal, 10)}, nil)
}

// DropRule asks DELETE /api/v1/rules/:id: take a rule away. It needs administer, on all devices; a second factor
// shown again, by who has one.
func (c *Client) DropRule(ctx context.Context, rule int64) (out wire.Waits, err error) {
	err = c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/rules/" + strconv.FormatInt(rule, 10)}, &out)
	return out, err
}

// DropSearch asks DELETE /api/v1/searches/:name: forget one's own line of that name. It needs audit.
func (c *Client) DropSearch(ctx context.Context, search string) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/searches/" + url.PathEscape(search)}, nil)
}

// DropSilence asks DELETE /api/v1/silences/:number: take that back. It needs stage.
func (c *Client) DropSilence(ctx context.Context, silence int64) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/silences/" + strconv.FormatInt(silence, 10)}, nil)
}

// EndSession asks DELETE /api/v1/devices/:name/sessions/:id: end a session on the device. It needs administer.
func (c *Client) EndSession(ctx context.Context, device string, session string) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/devices/" + url.PathEscape(device) + "/sessions/" + url.PathEscape(session)}, nil)
}

// EndToken asks DELETE /api/v1/tokens/:id: end a session or token. It needs an account.
func (c *Client) EndToken(ctx context.Context, token string) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/tokens/" + url.PathEscape(token)}, nil)
}

// ExportAuditQuery says what [Client.ExportAudit] is asked for. What is left out does not matter.
type ExportAuditQuery struct {
	// A line to search by (docs/audit.md).
	Search string
	// The form of the answer.
	Format string
}

func (q ExportAuditQuery) values() url.Values {
	v := url.Values{}
	if q.Search != "" {
		v.Set("q", q.Search)
	}
	if q.Format != "" {
		v.Set("format", q.Format)
	}
	return v
}

// ExportAudit asks GET /api/v1/audit/export: what a line finds, oldest first, as CSV (RFC 4180) or JSON Lines; format
// is csv or jsonl. It needs audit.
func (c *Client) ExportAudit(ctx context.Context, query ExportAuditQuery) (*Download, error) {
	return c.download(ctx, request{method: http.MethodGet, path: "/api/v1/audit/export", query: query.values()})
}

// ExportConfigurationsQuery says what [Client.ExportConfigurations] is asked for. What is left out does not matter.
type ExportConfigurationsQuery struct {
	// A place that a configuration can be read from: running, startup, candidate, rev:N, startup:N, at:TIME,
	// snapshot:NAME, before:N, change:N or archive:N.
	From string
	// The name of a device; where several are meant, with commas between.
	Device string
	// The name of a site.
	Site string
	// The form of the answer.
	Format string
}

func (q ExportConfigurationsQuery) values() url.Values {
	v := url.Values{}
	if q.From != "" {
		v.Set("from", q.From)
	}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	if q.Site != "" {
		v.Set("site", q.Site)
	}
	if q.Format != "" {
		v.Set("format", q.Format)
	}
	return v
}

// ExportConfigurations asks GET /api/v1/export: configurations as a bundle (tar, docs/bundles.md): of a place or a
// snapshot; of devices, a site, or all; format is xml or json. It needs read.
func (c *Client) ExportConfigurations(ctx context.Context, query ExportConfigurationsQuery) (*Download, error) {
	return c.download(ctx, request{method: http.MethodGet, path: "/api/v1/export", query: query.values()})
}

// ExtendHold asks POST /api/v1/changes/:number/hold: move the end of a hold. It needs commit.
func (c *Client) ExtendHold(ctx context.Context, change int64, in wire.NewHold) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/hold", in: in}, &out)
	return out, err
}

// FinishFactor asks POST /api/v1/me/factors/added: end that, by showing it once; with the first come recovery codes.
// It needs an account.
func (c *Client) FinishFactor(ctx context.Context, in wire.Shown) (out wire.FactorAdded, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/me/factors/added", in: in}, &out)
	return out, err
}

// GetChange asks GET /api/v1/changes/:number: one change and how its commit stands. It needs read.
func (c *Client) GetChange(ctx context.Context, change int64) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/changes/" + strconv.FormatInt(change, 10)}, &out)
	return out, err
}

// GetCommitQuery says what [Client.GetCommit] is asked for. What is left out does not matter.
type GetCommitQuery struct {
	// How many unchanged neighbours are shown beside each changed line.
	Context *int
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
}

func (q GetCommitQuery) values() url.Values {
	v := url.Values{}
	if q.Context != nil {
		v.Set("context", strconv.Itoa(*q.Context))
	}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	return v
}

// GetCommit asks GET /api/v1/commits/:number: one commit: what it made of each device, its steps, who staged what;
// context is the number of unchanged neighbours. It needs read.
func (c *Client) GetCommit(ctx context.Context, commit int64, query GetCommitQuery) (out wire.CommitRecord, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/commits/" + strconv.FormatInt(commit, 10), query: query.values()}, &out)
	return out, err
}

// GetDevice asks GET /api/v1/devices/:name: one device. It needs read.
func (c *Client) GetDevice(ctx context.Context, device string) (out wire.Device, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device)}, &out)
	return out, err
}

// GetEntry asks GET /api/v1/audit/entries/:number: one entry. It needs audit.
func (c *Client) GetEntry(ctx context.Context, entry int64) (out wire.Entry, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/audit/entries/" + strconv.FormatInt(entry, 10)}, &out)
	return out, err
}

// GetFilterQuery says what [Client.GetFilter] is asked for. What is left out does not matter.
type GetFilterQuery struct {
	// A place that a configuration can be read from: running, startup, candidate, rev:N, startup:N, at:TIME,
	// snapshot:NAME, before:N, change:N or archive:N.
	From string
}

func (q GetFilterQuery) values() url.Values {
	v := url.Values{}
	if q.From != "" {
		v.Set("from", q.From)
	}
	return v
}

// GetFilter asks GET /api/v1/devices/:name/filters/:filter: one filter: what each rule decides, which are never
// reached, redundant or clash, what can go. It needs read.
func (c *Client) GetFilter(ctx context.Context, device string, filter string, query GetFilterQuery) (out flow.Sheet, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/filters/" + url.PathEscape(filter), query: query.values()}, &out)
	return out, err
}

// GetJobQuery says what [Client.GetJob] is asked for. What is left out does not matter.
type GetJobQuery struct {
	// How many seconds to wait for its end.
	Wait int64
}

func (q GetJobQuery) values() url.Values {
	v := url.Values{}
	if q.Wait != 0 {
		v.Set("wait", strconv.FormatInt(q.Wait, 10))
	}
	return v
}

// GetJob asks GET /api/v1/jobs/:id: how long work of one's own stands, or for an administrator anybody's; wait is for
// how many seconds to wait for its end. It needs an account.
func (c *Client) GetJob(ctx context.Context, job int64, query GetJobQuery) (out wire.Job, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/jobs/" + strconv.FormatInt(job, 10), query: query.values()}, &out)
	return out, err
}

// GetOutsideQuery says what [Client.GetOutside] is asked for. What is left out does not matter.
type GetOutsideQuery struct {
	// How many unchanged neighbours are shown beside each changed line.
	Context *int
}

func (q GetOutsideQuery) values() url.Values {
	v := url.Values{}
	if q.Context != nil {
		v.Set("context", strconv.Itoa(*q.Context))
	}
	return v
}

// GetOutside asks GET /api/v1/outside/:number: one outside change, with its difference and what the device told;
// context is the number of unchanged neighbours. It needs read.
func (c *Client) GetOutside(ctx context.Context, outside int64, query GetOutsideQuery) (out wire.Outside, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/outside/" + strconv.FormatInt(outside, 10), query: query.values()}, &out)
	return out, err
}

// GetPartQuery says what [Client.GetPart] is asked for. What is left out does not matter.
type GetPartQuery struct {
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
}

func (q GetPartQuery) values() url.Values {
	v := url.Values{}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	return v
}

// GetPart asks GET /api/v1/changes/:number/parts/:name: what is staged on a device so far, as an outline to be
// edited; path is the part of it that is wanted. It needs read.
func (c *Client) GetPart(ctx context.Context, change int64, device string, query GetPartQuery) (out wire.Part, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/parts/" + url.PathEscape(device), query: query.values()}, &out)
	return out, err
}

// GetSnapshot asks GET /api/v1/snapshots/:ref: one snapshot, by its number or name. It needs read.
func (c *Client) GetSnapshot(ctx context.Context, snapshot string) (out wire.Snapshot, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/snapshots/" + url.PathEscape(snapshot)}, &out)
	return out, err
}

// GetStencilQuery says what [Client.GetStencil] is asked for. What is left out does not matter.
type GetStencilQuery struct {
	// The name of a device; where several are meant, with commas between.
	Device string
}

func (q GetStencilQuery) values() url.Values {
	v := url.Values{}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	return v
}

// GetStencil asks GET /api/v1/stencils/:name: one stencil, its versions and the devices that use it; the blanks by a
// device's schema. It needs read.
func (c *Client) GetStencil(ctx context.Context, stencil string, query GetStencilQuery) (out wire.Stencil, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/stencils/" + url.PathEscape(stencil), query: query.values()}, &out)
	return out, err
}

// ImportBundleQuery says what [Client.ImportBundle] is asked for. What is left out does not matter.
type ImportBundleQuery struct {
	// The name of a device; where several are meant, with commas between.
	Device string
	// The name of a device.
	Onto string
}

func (q ImportBundleQuery) values() url.Values {
	v := url.Values{}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	if q.Onto != "" {
		v.Set("onto", q.Onto)
	}
	return v
}

// ImportBundle asks POST /api/v1/import/bundle: stage what a bundle holds (the body, a tar, docs/bundles.md) in one
// change, each configuration onto the device that it is from; device picks, onto sends the one that is picked
// elsewhere. It needs stage.
func (c *Client) ImportBundle(ctx context.Context, query ImportBundleQuery, body io.Reader) (out wire.ImportedBundle, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/import/bundle", query: query.values(), body: body, takes: "application/x-tar"}, &out)
	return out, err
}

// ImportConfiguration asks POST /api/v1/import: stage a configuration from a file, whole or in parts. It needs stage.
func (c *Client) ImportConfiguration(ctx context.Context, in wire.NewImport) (out wire.BroughtBack, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/import", in: in}, &out)
	return out, err
}

// ListAccounts asks GET /api/v1/accounts: all accounts. It needs administer, on all devices.
func (c *Client) ListAccounts(ctx context.Context) (out []wire.Account, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/accounts"}, &out)
	return out, err
}

// ListArchives asks GET /api/v1/archives: where copies go, in the order in which archives are tried. It needs read.
func (c *Client) ListArchives(ctx context.Context) (out []wire.Archive, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/archives"}, &out)
	return out, err
}

// ListChangesQuery says what [Client.ListChanges] is asked for. What is left out does not matter.
type ListChangesQuery struct {
	// Those before this number: the last one that was given.
	Before int64
	// How many at most.
	Limit int64
	// In one of these states, with commas between.
	State string
	// Of this person.
	Author string
	// With this in the title or the ticket.
	Text string
	// Whose number begins with these digits.
	Number string
	// Tell in the header Oaken-Latch-Count how many there are.
	Count bool
}

func (q ListChangesQuery) values() url.Values {
	v := url.Values{}
	if q.Before != 0 {
		v.Set("before", strconv.FormatInt(q.Before, 10))
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.FormatInt(q.Limit, 10))
	}
	if q.State != "" {
		v.Set("state", q.State)
	}
	if q.Author != "" {
		v.Set("author", q.Author)
	}
	if q.Text != "" {
		v.Set("text", q.Text)
	}
	if q.Number != "" {
		v.Set("number", q.Number)
	}
	if q.Count {
		v.Set("count", "true")
	}
	return v
}

// ListChanges asks GET /api/v1/changes: the changes one may see, newest first, at most limit (200 unless said, 500 at
// most); before is the number of the last one that was given; in one of the states (with commas between), by their
// author, with a text in title or ticket, whose number begins with digits; count=true tells in the header
// Oaken-Latch-Count how many there are. It needs read.
func (c *Client) ListChanges(ctx context.Context, query ListChangesQuery) (out []wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/changes", query: query.values()}, &out)
	return out, err
}

// ListCommitsQuery says what [Client.ListCommits] is asked for. What is left out does not matter.
type ListCommitsQuery struct {
	// Of this person.
	Who string
	// The name of a device; where several are meant, with commas between.
	Device string
	// The number of a change.
	Change int64
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
	// Since then, as in a line to search by.
	Since string
	// Until then, as in a line to search by.
	Until string
	// Those before this number: the last one that was given.
	Before int64
	// How many at most.
	Limit int64
}

func (q ListCommitsQuery) values() url.Values {
	v := url.Values{}
	if q.Who != "" {
		v.Set("who", q.Who)
	}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	if q.Change != 0 {
		v.Set("change", strconv.FormatInt(q.Change, 10))
	}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	if q.Since != "" {
		v.Set("since", q.Since)
	}
	if q.Until != "" {
		v.Set("until", q.Until)
	}
	if q.Before != 0 {
		v.Set("before", strconv.FormatInt(q.Before, 10))
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.FormatInt(q.Limit, 10))
	}
	return v
}

// ListCommits asks GET /api/v1/commits: every commit, newest first, with who had a hand in it; by a person (who
// staged, committed or confirmed), of a device, of a change, that made a difference at or below a path; before is a
// place in it. It needs read.
func (c *Client) ListCommits(ctx context.Context, query ListCommitsQuery) (out wire.CommitRecords, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/commits", query: query.values()}, &out)
	return out, err
}

// ListCopiesQuery says what [Client.ListCopies] is asked for. What is left out does not matter.
type ListCopiesQuery struct {
	// The name of an archive.
	Archive string
	// The name of a device; where several are meant, with commas between.
	Device string
}

func (q ListCopiesQuery) values() url.Values {
	v := url.Values{}
	if q.Archive != "" {
		v.Set("archive", q.Archive)
	}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	return v
}

// ListCopies asks GET /api/v1/copies: the copies there are, of an archive, of a device. It needs read.
func (c *Client) ListCopies(ctx context.Context, query ListCopiesQuery) (out []wire.Copy, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/copies", query: query.values()}, &out)
	return out, err
}

// ListDevices asks GET /api/v1/devices: all devices. It needs read.
func (c *Client) ListDevices(ctx context.Context) (out []wire.Device, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices"}, &out)
	return out, err
}

// ListEdits asks GET /api/v1/changes/:number/edits: the staged edits, in the order they were staged. It needs read.
func (c *Client) ListEdits(ctx context.Context, change int64) (out []wire.Edit, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/edits"}, &out)
	return out, err
}

// ListEmergenciesQuery says what [Client.ListEmergencies] is asked for. What is left out does not matter.
type ListEmergenciesQuery struct {
	// All of them, and not only those that are to be decided.
	All bool
}

func (q ListEmergenciesQuery) values() url.Values {
	v := url.Values{}
	if q.All {
		v.Set("all", "true")
	}
	return v
}

// ListEmergencies asks GET /api/v1/emergencies: commits without the approval they needed, that nobody looked at
// since; all=true has the others too. It needs read.
func (c *Client) ListEmergencies(ctx context.Context, query ListEmergenciesQuery) (out []wire.Emergency, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/emergencies", query: query.values()}, &out)
	return out, err
}

// ListExpectations asks GET /api/v1/changes/:number/expectations: what traffic the change is meant to permit or deny.
// It needs read.
func (c *Client) ListExpectations(ctx context.Context, change int64) (out []wire.Expectation, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/expectations"}, &out)
	return out, err
}

// ListFactors asks GET /api/v1/me/factors: one's own second factors. It needs an account.
func (c *Client) ListFactors(ctx context.Context) (out wire.Factors, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/me/factors"}, &out)
	return out, err
}

// ListFiltersQuery says what [Client.ListFilters] is asked for. What is left out does not matter.
type ListFiltersQuery struct {
	// A place that a configuration can be read from: running, startup, candidate, rev:N, startup:N, at:TIME,
	// snapshot:NAME, before:N, change:N or archive:N.
	From string
}

func (q ListFiltersQuery) values() url.Values {
	v := url.Values{}
	if q.From != "" {
		v.Set("from", q.From)
	}
	return v
}

// ListFilters asks GET /api/v1/devices/:name/filters: the device's filters and where they work; from is as for
// config. It needs read.
func (c *Client) ListFilters(ctx context.Context, device string, query ListFiltersQuery) (out wire.Filters, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/filters", query: query.values()}, &out)
	return out, err
}

// ListOutsideQuery says what [Client.ListOutside] is asked for. What is left out does not matter.
type ListOutsideQuery struct {
	// The name of a device; where several are meant, with commas between.
	Device string
	// All of them, and not only those that are to be decided.
	All bool
}

func (q ListOutsideQuery) values() url.Values {
	v := url.Values{}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	if q.All {
		v.Set("all", "true")
	}
	return v
}

// ListOutside asks GET /api/v1/outside: outside changes, newest first: those that are to be decided, or with all=true
// the newest of all; of a device. It needs read.
func (c *Client) ListOutside(ctx context.Context, query ListOutsideQuery) (out []wire.Outside, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/outside", query: query.values()}, &out)
	return out, err
}

// ListProposals asks GET /api/v1/proposals: acts of administration that wait until others agree. It needs administer,
// on all devices.
func (c *Client) ListProposals(ctx context.Context) (out []wire.Proposal, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/proposals"}, &out)
	return out, err
}

// ListReceivers asks GET /api/v1/receivers: who is told of entries of the ledger. It needs audit.
func (c *Client) ListReceivers(ctx context.Context) (out []wire.Receiver, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/receivers"}, &out)
	return out, err
}

// ListRecordKeys asks GET /api/v1/audit/keys: the keys that sign the record, or did. It needs audit.
func (c *Client) ListRecordKeys(ctx context.Context) (out []wire.RecordKey, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/audit/keys"}, &out)
	return out, err
}

// ListReservations asks GET /api/v1/reservations: the devices that are reserved. It needs read.
func (c *Client) ListReservations(ctx context.Context) (out []wire.Reservation, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/reservations"}, &out)
	return out, err
}

// ListRevisionsQuery says what [Client.ListRevisions] is asked for. What is left out does not matter.
type ListRevisionsQuery struct {
	// Of running, or of startup.
	Line string
}

func (q ListRevisionsQuery) values() url.Values {
	v := url.Values{}
	if q.Line != "" {
		v.Set("line", q.Line)
	}
	return v
}

// ListRevisions asks GET /api/v1/devices/:name/revisions: a device's revisions, newest first; line is running or
// startup. It needs read.
func (c *Client) ListRevisions(ctx context.Context, device string, query ListRevisionsQuery) (out []wire.Revision, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/revisions", query: query.values()}, &out)
	return out, err
}

// ListRules asks GET /api/v1/rules: what is not committed without the approval of others. It needs read.
func (c *Client) ListRules(ctx context.Context) (out []wire.ApprovalRule, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/rules"}, &out)
	return out, err
}

// ListSchedule asks GET /api/v1/schedule: what is on the schedule, and what was. It needs read.
func (c *Client) ListSchedule(ctx context.Context) (out []wire.Scheduled, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/schedule"}, &out)
	return out, err
}

// ListSearches asks GET /api/v1/searches: saved searches: one's own, and those that others share. It needs audit.
func (c *Client) ListSearches(ctx context.Context) (out []wire.Search, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/searches"}, &out)
	return out, err
}

// ListSessions asks GET /api/v1/devices/:name/sessions: who is on the device, where it tells. It needs read.
func (c *Client) ListSessions(ctx context.Context, device string) (out []wire.Visitor, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/sessions"}, &out)
	return out, err
}

// ListSharedValues asks GET /api/v1/shared: all shared values. It needs read.
func (c *Client) ListSharedValues(ctx context.Context) (out []wire.Shared, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/shared"}, &out)
	return out, err
}

// ListSilences asks GET /api/v1/silences: the paths that always move, and need no decision. It needs read.
func (c *Client) ListSilences(ctx context.Context) (out []wire.Silence, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/silences"}, &out)
	return out, err
}

// ListSnapshotsQuery says what [Client.ListSnapshots] is asked for. What is left out does not matter.
type ListSnapshotsQuery struct {
	// The name of a device; where several are meant, with commas between.
	Device string
	// Those, too, that were taken out of use.
	Retired bool
}

func (q ListSnapshotsQuery) values() url.Values {
	v := url.Values{}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	if q.Retired {
		v.Set("retired", "true")
	}
	return v
}

// ListSnapshots asks GET /api/v1/snapshots: the snapshots, newest first; of a device; retired=true has those too. It
// needs read.
func (c *Client) ListSnapshots(ctx context.Context, query ListSnapshotsQuery) (out []wire.Snapshot, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/snapshots", query: query.values()}, &out)
	return out, err
}

// ListStandings asks GET /api/v1/standing: how what is saved stands: changed, saved to startup, copied. It needs
// read.
func (c *Client) ListStandings(ctx context.Context) (out []wire.Standing, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/standing"}, &out)
	return out, err
}

// ListStencils asks GET /api/v1/stencils: all stencils. It needs read.
func (c *Client) ListStencils(ctx context.Context) (out []wire.Stencil, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/stencils"}, &out)
	return out, err
}

// ListTokens asks GET /api/v1/tokens: the sessions and tokens that let in: one's own, or for an administrator all. It
// needs an account.
func (c *Client) ListTokens(ctx context.Context) (out []wire.Token, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/tokens"}, &out)
	return out, err
}

// ListUnsettled asks GET /api/v1/changes/:number/unsettled: what the devices hold of a change that was under way when
// the backup was taken that the records come from; they are read. It needs commit.
func (c *Client) ListUnsettled(ctx context.Context, change int64) (out []wire.Unsettled, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/unsettled"}, &out)
	return out, err
}

// LoadConfiguration asks POST /api/v1/changes/:number/load: stage a piece of configuration on one device or several;
// on all of them, or on none. It needs stage.
func (c *Client) LoadConfiguration(ctx context.Context, change int64, in wire.NewLoad) (out []wire.Loaded, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/load", in: in}, &out)
	return out, err
}

// Login asks POST /api/v1/login: sign in; gives a token, and a cookie for the console. It needs nothing.
func (c *Client) Login(ctx context.Context, in wire.Login) (out wire.Session, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/login", in: in}, &out)
	return out, err
}

// LoginSecond asks POST /api/v1/login/second: show the second factor that the answer to /login asked for; gives what
// that gives without one. It needs nothing.
func (c *Client) LoginSecond(ctx context.Context, in wire.Shown) (out wire.Session, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/login/second", in: in}, &out)
	return out, err
}

// Logout asks POST /api/v1/logout: sign out; the session ends. It needs an account.
func (c *Client) Logout(ctx context.Context) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/logout"}, nil)
}

// MendFromCopy asks POST /api/v1/copies/:id/mend: repair a damaged stored configuration with its copy. It needs
// administer, on all devices.
func (c *Client) MendFromCopy(ctx context.Context, copy int64) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/copies/" + strconv.FormatInt(copy, 10) + "/mend"}, nil)
}

// Metrics asks GET /metrics: how it goes, for a collector (Prometheus text format); it names all devices. It needs
// read, on all devices.
func (c *Client) Metrics(ctx context.Context) (*Download, error) {
	return c.download(ctx, request{method: http.MethodGet, path: "/metrics"})
}

// NewRecoveryCodes asks POST /api/v1/me/recovery-codes: make new recovery codes; the old ones stop working. It needs
// an account; a second factor shown again, by who has one.
func (c *Client) NewRecoveryCodes(ctx context.Context) (out wire.RecoveryCodes, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/me/recovery-codes"}, &out)
	return out, err
}

// OpenChange asks POST /api/v1/changes: open a change. It needs stage.
func (c *Client) OpenChange(ctx context.Context, in wire.NewChange) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes", in: in}, &out)
	return out, err
}

// OpenFromOutside asks POST /api/v1/outside/:number/open: open a change that goes on from an outside change: the same
// on other devices, or a draft. It needs stage.
func (c *Client) OpenFromOutside(ctx context.Context, outside int64, in wire.NewPush) (out wire.Pushed, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/outside/" + strconv.FormatInt(outside, 10) + "/open", in: in}, &out)
	return out, err
}

// PathHistoryQuery says what [Client.PathHistory] is asked for. What is left out does not matter.
type PathHistoryQuery struct {
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
}

func (q PathHistoryQuery) values() url.Values {
	v := url.Values{}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	return v
}

// PathHistory asks GET /api/v1/devices/:name/history: what happened at a path and below it, oldest first. It needs
// read.
func (c *Client) PathHistory(ctx context.Context, device string, query PathHistoryQuery) (out wire.Life, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/devices/" + url.PathEscape(device) + "/history", query: query.values()}, &out)
	return out, err
}

// PeriodReportQuery says what [Client.PeriodReport] is asked for. What is left out does not matter.
type PeriodReportQuery struct {
	// Since then, as in a line to search by.
	Since string
	// Until then, as in a line to search by.
	Until string
	// The name of a device; where several are meant, with commas between.
	Device string
	// Of this person.
	Who string
	// The form of the answer.
	Format string
}

func (q PeriodReportQuery) values() url.Values {
	v := url.Values{}
	if q.Since != "" {
		v.Set("since", q.Since)
	}
	if q.Until != "" {
		v.Set("until", q.Until)
	}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	if q.Who != "" {
		v.Set("who", q.Who)
	}
	if q.Format != "" {
		v.Set("format", q.Format)
	}
	return v
}

// PeriodReport asks GET /api/v1/report: a period's report, of all, of a device or of a person; since and until as in
// a line to search by; format is pdf or html. It needs audit.
func (c *Client) PeriodReport(ctx context.Context, query PeriodReportQuery) (*Download, error) {
	return c.download(ctx, request{method: http.MethodGet, path: "/api/v1/report", query: query.values()})
}

// PreviewChangeQuery says what [Client.PreviewChange] is asked for. What is left out does not matter.
type PreviewChangeQuery struct {
	// How many unchanged neighbours are shown beside each changed line.
	Context *int
	// The name of a device; where several are meant, with commas between.
	Device string
	// Of this person's edits only.
	By string
	// In another form.
	As string
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
	// Have the devices judge the result, without committing it.
	Validate bool
}

func (q PreviewChangeQuery) values() url.Values {
	v := url.Values{}
	if q.Context != nil {
		v.Set("context", strconv.Itoa(*q.Context))
	}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	if q.By != "" {
		v.Set("by", q.By)
	}
	if q.As != "" {
		v.Set("as", q.As)
	}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	if q.Validate {
		v.Set("validate", "true")
	}
	return v
}

// PreviewChange asks GET /api/v1/changes/:number/preview: what the change would do; context is the number of
// unchanged neighbours shown, as another form of the difference (unified, edit-config, yang-patch, yang-patch-json,
// outline or xml for the whole result), by one person's edits, only what lies at or below a path, validate=true has
// the devices judge the result. It needs read.
func (c *Client) PreviewChange(ctx context.Context, change int64, query PreviewChangeQuery) (out wire.Preview, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/preview", query: query.values()}, &out)
	return out, err
}

// ProveEntry asks POST /api/v1/audit/entries/:number/proof: a file that shows anybody that an entry is in the record
// (c2sp.org/tlog-proof). It needs audit.
func (c *Client) ProveEntry(ctx context.Context, entry int64) (out wire.Proof, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/audit/entries/" + strconv.FormatInt(entry, 10) + "/proof"}, &out)
	return out, err
}

// ProveExtension asks POST /api/v1/audit/extends: a text that shows anybody that the record goes on from a checkpoint
// that was kept. It needs audit.
func (c *Client) ProveExtension(ctx context.Context, in wire.Against) (out wire.Proof, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/audit/extends", in: in}, &out)
	return out, err
}

// ProveFactor asks POST /api/v1/me/proof: show one's second factor again, for sensitive actions: it counts for five
// minutes. It needs an account.
func (c *Client) ProveFactor(ctx context.Context, in wire.Shown) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/me/proof", in: in}, nil)
}

// PushBackOutside asks POST /api/v1/outside/:number/push-back: stage the undoing of an outside change, and of nothing
// that came after it; it is decided when that change is confirmed. It needs stage.
func (c *Client) PushBackOutside(ctx context.Context, outside int64, in wire.NewPush) (out wire.Pushed, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/outside/" + strconv.FormatInt(outside, 10) + "/push-back", in: in}, &out)
	return out, err
}

// ReadCopy asks GET /api/v1/copies/:id: a copy as the archive has it, compared with the digest it was written with.
// It needs read.
func (c *Client) ReadCopy(ctx context.Context, copy int64) (out wire.CopyText, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/copies/" + strconv.FormatInt(copy, 10)}, &out)
	return out, err
}

// ReadText asks POST /api/v1/devices/:name/text: read a configuration by the device's modules, judge it, and write it
// as outline, xml or json; nothing is staged. It needs read.
func (c *Client) ReadText(ctx context.Context, device string, in wire.NewText) (out wire.TextRead, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/devices/" + url.PathEscape(device) + "/text", in: in}, &out)
	return out, err
}

// Readdress asks POST /api/v1/changes/:number/readdress: say where a part moves its device's management to. It needs
// stage.
func (c *Client) Readdress(ctx context.Context, change int64, in wire.Readdress) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/readdress", in: in}, &out)
	return out, err
}

// RebaseChange asks POST /api/v1/changes/:number/rebase: put parts on what their devices hold now. It needs stage.
func (c *Client) RebaseChange(ctx context.Context, change int64, in wire.Rebase) (out []wire.Rebased, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/rebase", in: in}, &out)
	return out, err
}

// RebuildFromArchive asks POST /api/v1/archives/:name/rebuild: make devices and revisions again from nothing but the
// archive; a job. It needs administer, on all devices.
func (c *Client) RebuildFromArchive(ctx context.Context, archive string) (out wire.Job, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/archives/" + url.PathEscape(archive) + "/rebuild"}, &out)
	return out, err
}

// RelabelSnapshot asks PATCH /api/v1/snapshots/:ref: give a snapshot another name or note, protect it, retire it. It
// needs stage.
func (c *Client) RelabelSnapshot(ctx context.Context, snapshot string, in wire.Relabel) (out wire.Snapshot, err error) {
	err = c.ask(ctx, request{method: http.MethodPatch, path: "/api/v1/snapshots/" + url.PathEscape(snapshot), in: in}, &out)
	return out, err
}

// ReleaseDevice asks DELETE /api/v1/devices/:name/reservation: end the reservation. It needs stage.
func (c *Client) ReleaseDevice(ctx context.Context, device string) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/devices/" + url.PathEscape(device) + "/reservation"}, nil)
}

// RenameChange asks PATCH /api/v1/changes/:number: give the change another title and ticket. It needs stage.
func (c *Client) RenameChange(ctx context.Context, change int64, in wire.NewChange) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPatch, path: "/api/v1/changes/" + strconv.FormatInt(change, 10), in: in}, &out)
	return out, err
}

// ReplaceDevice asks POST /api/v1/devices/:name/replace: put another box in the device's place; its history goes on,
// its host key is to be accepted again. It needs administer.
func (c *Client) ReplaceDevice(ctx context.Context, device string, in wire.NewDevice) (out wire.Device, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/devices/" + url.PathEscape(device) + "/replace", in: in}, &out)
	return out, err
}

// ReserveDevice asks POST /api/v1/devices/:name/reservation: reserve the device for oneself, or for longer. It needs
// stage.
func (c *Client) ReserveDevice(ctx context.Context, device string, in wire.NewReservation) (out wire.Reservation, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/devices/" + url.PathEscape(device) + "/reservation", in: in}, &out)
	return out, err
}

// RestartDevice asks POST /api/v1/devices/:name/restart: restart the device; what its startup does not hold is lost.
// It needs administer.
func (c *Client) RestartDevice(ctx context.Context, device string) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/devices/" + url.PathEscape(device) + "/restart"}, nil)
}

// RestoreConfiguration asks POST /api/v1/restore: stage a configuration, or parts of it, as it was. It needs stage.
func (c *Client) RestoreConfiguration(ctx context.Context, in wire.NewRestore) (out wire.BroughtBack, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/restore", in: in}, &out)
	return out, err
}

// RetireReceiver asks DELETE /api/v1/receivers/:name: tell a receiver nothing any more. It needs administer, on all
// devices.
func (c *Client) RetireReceiver(ctx context.Context, receiver string) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/receivers/" + url.PathEscape(receiver)}, nil)
}

// RevertChange asks POST /api/v1/changes/:number/revert: revert now; answers when every device is seen to have
// reverted, or after a minute. It needs commit.
func (c *Client) RevertChange(ctx context.Context, change int64) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/revert"}, &out)
	return out, err
}

// ReviewEmergency asks POST /api/v1/emergencies/:id/review: say what one found who looked at it. It needs approve.
func (c *Client) ReviewEmergency(ctx context.Context, emergency int64, in wire.NewNote) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/emergencies/" + strconv.FormatInt(emergency, 10) + "/review", in: in}, nil)
}

// SaveDevice asks POST /api/v1/devices/:name/save: copy running to startup and read that back. It needs commit.
func (c *Client) SaveDevice(ctx context.Context, device string) (out wire.Device, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/devices/" + url.PathEscape(device) + "/save"}, &out)
	return out, err
}

// SaveSharedValue asks PUT /api/v1/shared/:name: give a shared value other items; opens a change for the devices on
// which a stencil uses it. It needs stage.
func (c *Client) SaveSharedValue(ctx context.Context, value string, in wire.NewShared) (out wire.Saved, err error) {
	err = c.ask(ctx, request{method: http.MethodPut, path: "/api/v1/shared/" + url.PathEscape(value), in: in}, &out)
	return out, err
}

// SaveStencil asks PUT /api/v1/stencils/:name: save a new version; opens a change for the devices that use it. It
// needs stage.
func (c *Client) SaveStencil(ctx context.Context, stencil string, in wire.NewStencil) (out wire.Saved, err error) {
	err = c.ask(ctx, request{method: http.MethodPut, path: "/api/v1/stencils/" + url.PathEscape(stencil), in: in}, &out)
	return out, err
}

// ScheduleCommit asks POST /api/v1/changes/:number/schedule: commit at a time. It needs commit.
func (c *Client) ScheduleCommit(ctx context.Context, change int64, in wire.NewSchedule) (out wire.Scheduled, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/schedule", in: in}, &out)
	return out, err
}

// ScheduleRestart asks POST /api/v1/devices/:name/schedule: restart the device at a time. It needs administer.
func (c *Client) ScheduleRestart(ctx context.Context, device string, in wire.NewSchedule) (out wire.Scheduled, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/devices/" + url.PathEscape(device) + "/schedule", in: in}, &out)
	return out, err
}

// SearchAuditQuery says what [Client.SearchAudit] is asked for. What is left out does not matter.
type SearchAuditQuery struct {
	// A line to search by (docs/audit.md).
	Search string
	// Those before this number: the last one that was given.
	Before int64
	// Those after this number.
	After int64
	// The oldest first.
	Oldest bool
	// How many at most.
	Limit int64
}

func (q SearchAuditQuery) values() url.Values {
	v := url.Values{}
	if q.Search != "" {
		v.Set("q", q.Search)
	}
	if q.Before != 0 {
		v.Set("before", strconv.FormatInt(q.Before, 10))
	}
	if q.After != 0 {
		v.Set("after", strconv.FormatInt(q.After, 10))
	}
	if q.Oldest {
		v.Set("oldest", "true")
	}
	if q.Limit != 0 {
		v.Set("limit", strconv.FormatInt(q.Limit, 10))
	}
	return v
}

// SearchAudit asks GET /api/v1/audit: the ledger, newest first: q is a line to search by (docs/audit.md), before a
// place in it, oldest=true turns the order round and goes on after a place. It needs audit.
func (c *Client) SearchAudit(ctx context.Context, query SearchAuditQuery) (out wire.Audit, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/audit", query: query.values()}, &out)
	return out, err
}

// SetAccount asks PATCH /api/v1/accounts/:account: say what an account may do, give it another password, or take its
// second factors away. It needs administer, on all devices; a second factor shown again, by who has one.
func (c *Client) SetAccount(ctx context.Context, account string, in wire.AccountSettings) (out wire.Account, err error) {
	err = c.ask(ctx, request{method: http.MethodPatch, path: "/api/v1/accounts/" + url.PathEscape(account), in: in}, &out)
	return out, err
}

// SetArchive asks PATCH /api/v1/archives/:name: change how an archive is used, or retire it. It needs administer, on
// all devices.
func (c *Client) SetArchive(ctx context.Context, archive string, in wire.ArchiveSettings) (out wire.Archive, err error) {
	err = c.ask(ctx, request{method: http.MethodPatch, path: "/api/v1/archives/" + url.PathEscape(archive), in: in}, &out)
	return out, err
}

// SetDevice asks PATCH /api/v1/devices/:name: change a device's settings. It needs administer.
func (c *Client) SetDevice(ctx context.Context, device string, in wire.Settings) (out wire.Device, err error) {
	err = c.ask(ctx, request{method: http.MethodPatch, path: "/api/v1/devices/" + url.PathEscape(device), in: in}, &out)
	return out, err
}

// SetOwnPassword asks POST /api/v1/me/password: give one's own account another password; its other sessions end. It
// needs an account; a second factor shown again, by who has one.
func (c *Client) SetOwnPassword(ctx context.Context, in wire.NewPassword) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/me/password", in: in}, nil)
}

// SetReceiver asks PATCH /api/v1/receivers/:name: change what a receiver is told of. It needs administer, on all
// devices.
func (c *Client) SetReceiver(ctx context.Context, receiver string, in wire.ReceiverLine) (out wire.Receiver, err error) {
	err = c.ask(ctx, request{method: http.MethodPatch, path: "/api/v1/receivers/" + url.PathEscape(receiver), in: in}, &out)
	return out, err
}

// SetSearch asks PUT /api/v1/searches/:name: keep a line under a name. It needs audit.
func (c *Client) SetSearch(ctx context.Context, search string, in wire.NewSearch) (out wire.Search, err error) {
	err = c.ask(ctx, request{method: http.MethodPut, path: "/api/v1/searches/" + url.PathEscape(search), in: in}, &out)
	return out, err
}

// SettleChange asks POST /api/v1/changes/:number/settle: record devices as they are found to be; once all are, the
// change has its end. It needs commit.
func (c *Client) SettleChange(ctx context.Context, change int64, in wire.Settle) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/settle", in: in}, &out)
	return out, err
}

// ShareChange asks POST /api/v1/changes/:number/coworkers: add somebody to the change. It needs stage.
func (c *Client) ShareChange(ctx context.Context, change int64, in wire.Share) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/coworkers", in: in}, &out)
	return out, err
}

// SignCheckpoint asks POST /api/v1/audit/checkpoint: sign what the ledger is now, to be kept elsewhere. It needs
// audit.
func (c *Client) SignCheckpoint(ctx context.Context) (out wire.Checkpoint, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/audit/checkpoint"}, &out)
	return out, err
}

// SignInOptions asks GET /api/v1/login/ways: how people sign in: with a password, and where somebody else vouches for
// them. It needs nothing.
func (c *Client) SignInOptions(ctx context.Context) (out wire.SignInOptions, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/login/ways"}, &out)
	return out, err
}

// StageEdit asks POST /api/v1/changes/:number/edits: stage an edit on one device or several; on all of them, or on
// none. It needs stage.
func (c *Client) StageEdit(ctx context.Context, change int64, in wire.NewEdit) (out []wire.Staged, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/edits", in: in}, &out)
	return out, err
}

// StopJob asks DELETE /api/v1/jobs/:id: stop long work of one's own, or for an administrator anybody's. It needs an
// account.
func (c *Client) StopJob(ctx context.Context, job int64) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/jobs/" + strconv.FormatInt(job, 10)}, nil)
}

// StreamEventsQuery says what [Client.StreamEvents] is asked for. What is left out does not matter.
type StreamEventsQuery struct {
	// Every how many seconds an event named pulse says that the stream lives; none if it is left out.
	Pulse int64
}

func (q StreamEventsQuery) values() url.Values {
	v := url.Values{}
	if q.Pulse != 0 {
		v.Set("pulse", strconv.FormatInt(q.Pulse, 10))
	}
	return v
}

// StreamEvents asks GET /api/v1/events: what happens, as it is written (server-sent events): entries of the ledger
// for those who may audit, and for those who may read that something they see has moved; resumes after Last-Event-ID.
// It needs read.
func (c *Client) StreamEvents(ctx context.Context, query StreamEventsQuery) (*Download, error) {
	return c.download(ctx, request{method: http.MethodGet, path: "/api/v1/events", query: query.values()})
}

// TakeSnapshot asks POST /api/v1/snapshots: name the state that devices are in now. It needs stage.
func (c *Client) TakeSnapshot(ctx context.Context, in wire.NewSnapshot) (out wire.Snapshot, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/snapshots", in: in}, &out)
	return out, err
}

// TracePacketQuery says what [Client.TracePacket] is asked for. What is left out does not matter.
type TracePacketQuery struct {
	// Packets, as in a line of an expectation.
	Packets string
	// A way through the network.
	Way string
}

func (q TracePacketQuery) values() url.Values {
	v := url.Values{}
	if q.Packets != "" {
		v.Set("packets", q.Packets)
	}
	if q.Way != "" {
		v.Set("way", q.Way)
	}
	return v
}

// TracePacket asks GET /api/v1/trace: what filters do with packets: packets is written as an expectation without its
// action, way is DEVICE/FILTER or DEVICE@PLACE/FILTER, several with commas in the order in which packets go through
// them. It needs read.
func (c *Client) TracePacket(ctx context.Context, query TracePacketQuery) (out flow.Traced, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/trace", query: query.values()}, &out)
	return out, err
}

// TrustArchive asks POST /api/v1/archives/:name/trust: accept the host key of the archive's server. It needs
// administer, on all devices.
func (c *Client) TrustArchive(ctx context.Context, archive string, in wire.Trust) (out wire.HostKey, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/archives/" + url.PathEscape(archive) + "/trust", in: in}, &out)
	return out, err
}

// TrustDevice asks POST /api/v1/devices/:name/trust: accept the device's host key. It needs administer.
func (c *Client) TrustDevice(ctx context.Context, device string, in wire.Trust) (out wire.HostKey, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/devices/" + url.PathEscape(device) + "/trust", in: in}, &out)
	return out, err
}

// TryReceiver asks POST /api/v1/receivers/:name/try: tell a receiver something now, and say what came of it. It needs
// administer, on all devices.
func (c *Client) TryReceiver(ctx context.Context, receiver string) error {
	return c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/receivers/" + url.PathEscape(receiver) + "/try"}, nil)
}

// Undo asks POST /api/v1/undo: stage the undoing of a confirmed change, or of all of a person's. It needs stage.
func (c *Client) Undo(ctx context.Context, in wire.NewUndo) (out wire.BroughtBack, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/undo", in: in}, &out)
	return out, err
}

// Unschedule asks DELETE /api/v1/schedule/:id: take something off the schedule. It needs commit.
func (c *Client) Unschedule(ctx context.Context, schedule int64) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/schedule/" + strconv.FormatInt(schedule, 10)}, nil)
}

// UnshareChange asks DELETE /api/v1/changes/:number/coworkers/:account: take somebody off the change. It needs stage.
func (c *Client) UnshareChange(ctx context.Context, change int64, account string) (out wire.Change, err error) {
	err = c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/coworkers/" + url.PathEscape(account)}, &out)
	return out, err
}

// UnstageEdit asks DELETE /api/v1/changes/:number/edits/:id: take a staged edit back. It needs stage.
func (c *Client) UnstageEdit(ctx context.Context, change int64, edit int64) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/edits/" + strconv.FormatInt(edit, 10)}, nil)
}

// UnstageEditsQuery says what [Client.UnstageEdits] is asked for. What is left out does not matter.
type UnstageEditsQuery struct {
	// The name of a device; where several are meant, with commas between.
	Device string
	// Of this person's edits only.
	By string
	// A path in the configuration (RFC 8040 section 3.5.3, without prefixes where they are not needed).
	Path string
}

func (q UnstageEditsQuery) values() url.Values {
	v := url.Values{}
	if q.Device != "" {
		v.Set("device", q.Device)
	}
	if q.By != "" {
		v.Set("by", q.By)
	}
	if q.Path != "" {
		v.Set("path", q.Path)
	}
	return v
}

// UnstageEdits asks DELETE /api/v1/changes/:number/edits: take staged edits back: by device, by person, by line
// (path, with device), or all. It needs stage.
func (c *Client) UnstageEdits(ctx context.Context, change int64, query UnstageEditsQuery) (out []wire.Edit, err error) {
	err = c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/edits", query: query.values()}, &out)
	return out, err
}

// VerifyAgainst asks POST /api/v1/audit/verify: the same, also against a checkpoint that was stored elsewhere. It
// needs audit.
func (c *Client) VerifyAgainst(ctx context.Context, in wire.Against) (out wire.Verified, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/audit/verify", in: in}, &out)
	return out, err
}

// VerifyArchive asks POST /api/v1/archives/:name/verify: read every copy back and compare it; a job. It needs audit.
func (c *Client) VerifyArchive(ctx context.Context, archive string) (out wire.Job, err error) {
	err = c.ask(ctx, request{method: http.MethodPost, path: "/api/v1/archives/" + url.PathEscape(archive) + "/verify"}, &out)
	return out, err
}

// VerifyAudit asks GET /api/v1/audit/verify: check the whole ledger, against the checkpoints that are kept and what
// witnesses saw. It needs audit.
func (c *Client) VerifyAudit(ctx context.Context) (out wire.Verified, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/audit/verify"}, &out)
	return out, err
}

// WhoAmI asks GET /api/v1/me: who one is, and may do. It needs an account.
func (c *Client) WhoAmI(ctx context.Context) (out wire.Session, err error) {
	err = c.ask(ctx, request{method: http.MethodGet, path: "/api/v1/me"}, &out)
	return out, err
}

// WithdrawApproval asks DELETE /api/v1/changes/:number/approval: withdraw one's approval. It needs approve.
func (c *Client) WithdrawApproval(ctx context.Context, change int64) error {
	return c.ask(ctx, request{method: http.MethodDelete, path: "/api/v1/changes/" + strconv.FormatInt(change, 10) + "/approval"}, nil)
}
