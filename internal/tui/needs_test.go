package tui

import (
	"context"
	"errors"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"

	"alibi/internal/desk"
	"alibi/internal/plan"
	"alibi/internal/site"
)

// fake is a house with nothing in it but what a test puts there. What it does not give is not
// asked for: that would be a panic.
type fake struct {
	houseNeeds
	fleetNeeds
	runsNeeds

	version string
	board   desk.Board
	err     error
	run     plan.Run
	asked   []string
}

func (f *fake) Version(context.Context) (string, error)       { return f.version, nil }
func (f *fake) Now() time.Time                                { return time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC) }
func (f *fake) Board(context.Context) (desk.Board, error)     { return f.board, f.err }
func (f *fake) Run(context.Context, string) (plan.Run, error) { return f.run, nil }
func (f *fake) Cancel(_ context.Context, id string) error {
	f.asked = append(f.asked, "cancel "+id)
	return f.err
}
func (f *fake) Accept(_ context.Context, id string) (plan.Run, error) {
	f.asked = append(f.asked, "accept "+id)
	return f.run, f.err
}

func (f *fake) Resume(_ context.Context, id string) (plan.Run, error) {
	f.asked = append(f.asked, "resume "+id)
	return f.run, f.err
}

func before(t *testing.T, f *fake) *person {
	p := &person{t, newApp(context.Background(), services{houseNeeds: f, Fleet: f, Runs: f})}
	p.a.theme = newTheme(true, false)
	p.send(tea.WindowSizeMsg{Width: 120, Height: 30})
	p.run(p.a.load())
	return p
}

func TestARecordThatCanNotBeReadIsSaidAndReadAgain(t *testing.T) {
	live := site.Site{
		ID: "l1", Name: "skerryline.example", Role: site.Live, State: site.Ready, Host: "pier",
		Addresses: []site.Address{{Scheme: "https", Host: "skerryline.example"}},
	}
	f := &fake{version: "1", err: errors.New("the record is damaged: bring it back from a backup")}
	p := before(t, f)
	p.sees("the record is damaged")
	f.version, f.err = "2", nil
	f.board.Families = []desk.Family{{Live: live}}
	p.send(tickMsg{})
	p.sees("skerryline.example")
	assert.NotContains(t, p.frame(), "the record is damaged")
	f.version, f.err = "3", errors.New("the disk went away")
	p.send(tickMsg{})
	p.sees("the disk went away", "skerryline.example")
}

func TestWhatARunThatFailedCanBeAskedFor(t *testing.T) {
	f := &fake{version: "1", run: plan.Run{
		ID: "ab12", State: plan.Stopped, Acceptable: true, Error: "3 rows differ",
		Plan:  plan.Plan{Kind: plan.Copy, Target: site.Site{Name: "winter-prices"}},
		Steps: []plan.Progress{{Name: "evidence", Title: "gather evidence"}},
	}}
	p := before(t, f)
	p.a.push(newRun("ab12"))
	p.send(tickMsg{})
	p.sees("3 rows differ", "winter-prices")
	p.press("A")
	p.sees("Let winter-prices stand as it is?")
	assert.Empty(t, f.asked, "a question is not an answer")
	p.press("esc")
	assert.Empty(t, f.asked)
	p.press("A", "enter")
	assert.Equal(t, []string{"accept ab12"}, f.asked)
	f.err = errors.New("another run has been at work on winter-prices since")
	p.press("R")
	assert.Equal(t, []string{"accept ab12", "resume ab12"}, f.asked)
	p.sees("another run has been at work")
	f.err = nil
	p.press("x", "enter")
	assert.Equal(t, "cancel ab12", f.asked[len(f.asked)-1])
	f.run.State = plan.Done
	p.send(tickMsg{})
	p.press("x")
	assert.Len(t, f.asked, 3, "what is done is not stopped")
}
