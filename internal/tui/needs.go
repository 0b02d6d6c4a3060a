package tui

import (
	"context"
	"io/fs"
	"time"

	"alibi/internal/access"
	"alibi/internal/archive"
	"alibi/internal/ballast"
	"alibi/internal/catalogue"
	"alibi/internal/depot"
	"alibi/internal/desk"
	"alibi/internal/evidence"
	"alibi/internal/gateway"
	"alibi/internal/host/ssh"
	"alibi/internal/inventory"
	"alibi/internal/op/carry"
	"alibi/internal/op/clone"
	"alibi/internal/op/export"
	"alibi/internal/op/keep"
	"alibi/internal/op/remove"
	"alibi/internal/op/reset"
	"alibi/internal/op/trial"
	"alibi/internal/plan"
	"alibi/internal/runtime/outbox"
	"alibi/internal/runtime/php"
	"alibi/internal/site"
	"alibi/internal/stack"
)

// What the screens need of the services: a test may give others.

// services are what the screens ask.
type services struct {
	houseNeeds
	Fleet      fleetNeeds
	Runs       runsNeeds
	Copies     copiesNeeds
	Points     pointsNeeds
	Components componentsNeeds
	Pins       pinsNeeds
	Hands      handsNeeds
	Moves      movesNeeds
}

// of are those of an open desk.
func of(d *desk.Desk) services {
	return services{d, d.Fleet, d.Runs, d.Copies, d.Points, d.Components, d.Pins, d.Hands, d.Moves}
}

// houseNeeds are what all screens need: the time, and how Alibi is set up.
type houseNeeds interface {
	Grace() time.Duration
	Lease() time.Duration
	Now() time.Time
	PHP() []php.PHP
	Port() string
	SetAsker(a ssh.Asker)
	Version(ctx context.Context) (string, error)
}

// fleetNeeds are what the screens of hosts and sites need.
type fleetNeeds interface {
	AddHost(ctx context.Context, h inventory.Host) error
	AddSite(ctx context.Context, n desk.NewSite) (site.Site, error)
	Board(ctx context.Context) (desk.Board, error)
	ClearLeftovers(ctx context.Context, list []remove.Leftover) error
	Costs(ctx context.Context) (desk.Costs, error)
	DepotSizes(ctx context.Context) ([]desk.DepotSize, error)
	Ends(ctx context.Context) ([]desk.Ending, error)
	Find(ctx context.Context, what string) (site.Site, error)
	Forget(ctx context.Context, id site.ID) error
	History(ctx context.Context, id site.ID, limit int) ([]desk.Happening, error)
	HostState(ctx context.Context, name string) (desk.HostState, error)
	Hosts(ctx context.Context) ([]inventory.Host, error)
	Inspect(ctx context.Context, id site.ID) (site.Site, error)
	KnownHosts(ctx context.Context) ([]desk.HostState, error)
	MakeKey(name string) (string, error)
	SetField(name, field, v string, typed bool) error
	Sheet(name string) (access.Sheet, error)
	TrySheet(ctx context.Context, name string) ([]access.Seen, error)
	UseSheet(ctx context.Context, name string, plainly bool) (desk.Used, error)
	Leftovers(ctx context.Context) ([]remove.Leftover, error)
	PlanBulk(ctx context.Context, act desk.Act, ids []site.ID) (desk.Bulk, error)
	Precious(ctx context.Context, s site.Site) string
	RemoveHost(ctx context.Context, name string) error
	RunBulk(ctx context.Context, b desk.Bulk, typed string) ([]desk.Done, error)
	SetOwner(ctx context.Context, id site.ID, owner string) (site.Site, error)
}

// movesNeeds are what the screens of moves need.
type movesNeeds interface {
	All(ctx context.Context) ([]plan.Move, error)
	Begin(ctx context.Context, n desk.NewMove) (plan.Move, error)
	Forget(ctx context.Context, name string) error
	Lower(ctx context.Context, name, typed string) (plan.Move, error)
	Plan(ctx context.Context, m plan.Move, leg string) (plan.Plan, error)
	PlanCertificate(ctx context.Context, m plan.Move, c plan.Certificate) (plan.Plan, error)
	Survey(ctx context.Context, name string) (plan.Move, error)
	Watch(ctx context.Context, name string) (plan.Move, error)
}

// runsNeeds are what the screens of runs need.
type runsNeeds interface {
	Accept(ctx context.Context, id string) (plan.Run, error)
	Cancel(ctx context.Context, id string) error
	Latest(ctx context.Context, limit int) ([]plan.Run, error)
	Resume(ctx context.Context, id string) (plan.Run, error)
	Run(ctx context.Context, id string) (plan.Run, error)
	Start(ctx context.Context, p plan.Plan) (plan.Run, error)
	StartTyped(ctx context.Context, p plan.Plan, typed string) (plan.Run, error)
}

// copiesNeeds are what the screens of copies need.
type copiesNeeds interface {
	Allow(ctx context.Context, id site.ID, target string, lasts time.Duration) (site.Site, error)
	BringBack(ctx context.Context, id site.ID, lease time.Duration) (site.Site, error)
	Caught(ctx context.Context, id site.ID) ([]outbox.Item, error)
	CopyDefaults(ctx context.Context, origin site.Site, purpose string) (clone.Choices, error)
	Conflicts(ctx context.Context, id, with site.ID, item string) ([]carry.Conflict, error)
	DriftWith(ctx context.Context, id, with site.ID) (carry.Drifted, error)
	PlanSync(ctx context.Context, id site.ID, w carry.Wish, then ...carry.Wish) (plan.Plan, error)
	CopyInput(ctx context.Context, origin site.ID) (clone.Input, error)
	Expire(ctx context.Context, id site.ID, typed string) (site.Site, error)
	Extend(ctx context.Context, id site.ID, by time.Duration, typed string) (site.Site, error)
	Hide(ctx context.Context, id site.ID, password string) (site.Site, error)
	Hold(ctx context.Context, id site.ID, reason string) (site.Site, error)
	Latchkey(ctx context.Context, id site.ID, account string) (string, error)
	Lift(ctx context.Context, id site.ID, typed string) (site.Site, error)
	Live(ctx context.Context, id site.ID) (*gateway.Live, site.Site, error)
	Maintain(ctx context.Context, id site.ID, text string, typed string) (site.Site, error)
	Park(ctx context.Context, id site.ID, text string, contact string, typed string) (site.Site, error)
	PlanBlank(ctx context.Context, w desk.BlankWish, tell func(what string, done int64, total int64)) (plan.Plan, error)
	PlanClean(ctx context.Context, id site.ID, c reset.Clean, password string) (plan.Plan, error)
	PlanFrom(in clone.Input, c clone.Choices) plan.Plan
	PlanRemove(ctx context.Context, id site.ID) (plan.Plan, error)
	PointBack(ctx context.Context, id site.ID) ([]desk.Leads, error)
	PointHere(ctx context.Context, id site.ID) ([]desk.Leads, error)
	Prove(ctx context.Context, id site.ID, strict bool, tell func(units int, items int)) (*evidence.Report, error)
	RefreshInput(ctx context.Context, id site.ID) (clone.Input, clone.Choices, error)
	Reports(ctx context.Context, id site.ID, limit int) ([]evidence.Report, error)
}

// pointsNeeds are what the screens of restore points and archives need.
type pointsNeeds interface {
	Archives(ctx context.Context) ([]export.Note, error)
	BackInput(ctx context.Context, id site.ID, p desk.Point) (clone.Input, clone.Choices, error)
	Browse(ctx context.Context, p desk.Point, dir string) ([]fs.FileInfo, error)
	CheckArchive(ctx context.Context, name string, key string, tell func(bytes int64)) (archive.Manifest, error)
	DepotPath() string
	Dump(ctx context.Context, p desk.Point, to string) (size int64, err error)
	Extract(ctx context.Context, p desk.Point, what string, to string) (files int, bytes int64, err error)
	ForgetPoints(ctx context.Context, list []desk.Point) (depot.Pruned, error)
	MendDepot(ctx context.Context) (depot.Mended, error)
	PlanArchive(ctx context.Context, s site.Site, p *desk.Point, c export.Choices) (plan.Plan, error)
	PlanImport(ctx context.Context, name string, key string, as *site.Site) (plan.Plan, error)
	PlanKeep(ctx context.Context, id site.ID, c keep.Choices) (plan.Plan, error)
	PlanRehearse(ctx context.Context, p desk.Point) (plan.Plan, error)
	PlanRestore(ctx context.Context, p desk.Point, c reset.Choices) (plan.Plan, error)
	PointInput(ctx context.Context, p desk.Point) (clone.Input, clone.Choices, error)
	Points(ctx context.Context, of site.ID) (out []desk.Point, bad []error, err error)
	SetKeepRule(ctx context.Context, id site.ID, r site.KeepRule) (site.Site, error)
	Since(ctx context.Context, p desk.Point) (*keep.Changes, error)
	VerifyDepot(ctx context.Context, tell func(bytes int64)) ([]depot.Fault, error)
}

// componentsNeeds are what the screens of components and trials need.
type componentsNeeds interface {
	Again(ctx context.Context, id site.ID, slugs []string, tell func(slug string, why string)) error
	Catalogue() *catalogue.Client
	Complaints(ctx context.Context, s site.Site) ([]string, error)
	Components(ctx context.Context, id site.ID, ask bool) (desk.Parts, error)
	PlanChange(ctx context.Context, id site.ID, w desk.ChangeWish,
		tell func(what string, done int64, total int64)) (plan.Plan, error)
	PlanTrial(ctx context.Context, id site.ID, w desk.TrialWish) (plan.Plan, error)
	RescueWish(ctx context.Context, id site.ID) (w desk.ChangeWish, was []string, err error)
	Trial(ctx context.Context, run string) (plan.Run, trial.Memory, error)
	Trials(ctx context.Context, of site.ID) ([]plan.Run, error)
}

// pinsNeeds are what the screens of pin sheets need.
type pinsNeeds interface {
	LockPins(ctx context.Context, name string) (desk.PinSheet, error)
	PinGrid(ctx context.Context, ids ...site.ID) (desk.PinGrid, error)
	PinSheets() ([]desk.PinSheet, error)
	PinsOf(ctx context.Context, id site.ID) ([]byte, error)
	PlanPins(ctx context.Context, id site.ID, name string, tell func(what string, done int64, total int64)) (plan.Plan,
		error)
	SavePins(name string, src []byte, over bool) (desk.PinSheet, error)
	UsualPins() string
}

// handsNeeds are what the screens for work by hand need.
type handsNeeds interface {
	Accounts(ctx context.Context, id site.ID) ([]stack.Account, error)
	ExportContent(ctx context.Context, s site.Site, kinds []site.Kind, to string) (items int, err error)
	FileText(ctx context.Context, id site.ID, name string) ([]byte, error)
	Files(ctx context.Context, id site.ID, dir string) ([]desk.FileRow, error)
	FilesChanged(ctx context.Context, s site.Site) ([]desk.FileRow, error)
	NoteDeed(ctx context.Context, id site.ID, text string) error
	PeopleLeft(ctx context.Context, id site.ID) (evidence.Check, error)
	PlanAccount(ctx context.Context, id site.ID, login string, role string, mail string, password string) (plan.Plan,
		error)
	PlanBallast(ctx context.Context, id site.ID, l ballast.Load) (plan.Plan, error)
	PlanBring(ctx context.Context, id site.ID, from string) (plan.Plan, error)
	PlanCaches(ctx context.Context, id site.ID, object string) (plan.Plan, error)
	PlanCarry(ctx context.Context, from site.ID, to site.ID, name string) (plan.Plan, error)
	PlanEdit(ctx context.Context, id site.ID, name string, text []byte, anyway bool) (plan.Plan, error)
	PlanScrub(ctx context.Context, id site.ID) (plan.Plan, error)
	Query(ctx context.Context, id site.ID, statement string, write bool, limit int) (desk.Rows, error)
	ReadLog(ctx context.Context, id site.ID, which string, match string, kind string, from int64) (desk.Log, error)
	Repeated(ctx context.Context, id site.ID, deed string, is bool) error
	Security(ctx context.Context, id site.ID) ([]site.Finding, error)
	ShellOf(ctx context.Context, id site.ID, outside bool, command ...string) (desk.Shell, error)
	TableRows(ctx context.Context, id site.ID, table string, w desk.Where, skip int, limit int) (desk.Rows, error)
	Tables(ctx context.Context, id site.ID) ([]desk.TableRow, error)
	Timings(ctx context.Context, id site.ID, live bool) ([]desk.Timing, error)
	WorkList(ctx context.Context, id site.ID) ([]desk.Deed, error)
}
