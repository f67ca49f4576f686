// Package rounds runs the jobs of the settings by themselves: their steps one
// after the other, a brake before what would change far more than usual, and then
// a word to everybody whom it concerns. What a run has found, what is new and what
// is to be said is written down at once when it ends, so that a run that is killed
// has told nobody anything, and the next one tells all of it.
package rounds

import (
	"encoding/json"
	"fmt"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/batch"
	"yardbroom/internal/store"
)

// Outcome is how a run ended.
type Outcome string

// The outcomes.
const (
	Done    Outcome = "done"
	Stopped Outcome = "stopped" // by the brake
	Failed  Outcome = "failed"
	Killed  Outcome = "killed" // it never came to an end
	// OnHold is a run that only looked, since the brake stopped an earlier one.
	OnHold Outcome = "held"
)

// Run is what one run of a round did. It is a contract: fields may be added.
type Run struct {
	Schema  string      `json:"schema"` // yardbroom/run/1
	ID      int         `json:"id"`
	Round   string      `json:"round"`
	By      string      `json:"by"`
	Began   time.Time   `json:"began"`
	Ended   time.Time   `json:"ended,omitzero"`
	Planned time.Time   `json:"planned,omitzero"` // the time of the schedule that it stands for
	Outcome Outcome     `json:"outcome,omitempty"`
	Error   string      `json:"error,omitempty"`
	Yards   []*YardRun  `json:"yards"`
	Stops   []Stop      `json:"stops,omitempty"`   // why the brake stopped it
	Notes   []string    `json:"notes,omitempty"`   // what a person should know that is no result
	Written []string    `json:"written,omitempty"` // files
	Told    []Recipient `json:"told,omitempty"`    // who is told, and how
	Log     []LogLine   `json:"log,omitempty"`
}

// Shapes are the JSON shapes that programs rely on, by the name of their schema.
var Shapes = map[string]any{"run": &Run{}, "rounds": &ListShape{}, "post": &PostShape{}}

// RunSchema is the version of Run.
const RunSchema = "yardbroom/run/1"

// YardRun is what a run did with one yard.
type YardRun struct {
	Yard     string     `json:"yard"`
	Base     string     `json:"base,omitempty"`
	Error    string     `json:"error,omitempty"`
	Steps    []*StepRun `json:"steps"`
	Facts    *Facts     `json:"facts,omitempty"` // of what was read
	Findings Severities `json:"findings"`
	New      Severities `json:"new"`
	Known    int        `json:"known"` // of the findings
}

// StepRun is what became of one step.
type StepRun struct {
	Step  string    `json:"step"` // survey, audit, list, reconcile, stage, due, apply, climb or answers
	Title string    `json:"title,omitempty"`
	Began time.Time `json:"began"`
	Ended time.Time `json:"ended"`
	Error string    `json:"error,omitempty"`
	// Skipped says why it was not done.
	Skipped  string     `json:"skipped,omitempty"`
	Survey   string     `json:"survey,omitempty"` // that was kept
	Entries  int        `json:"entries,omitempty"`
	Findings int        `json:"findings,omitempty"`
	New      int        `json:"new,omitempty"`
	Rows     int        `json:"rows,omitempty"`
	Batches  []BatchRun `json:"batches,omitempty"`
	Refused  int        `json:"refused,omitempty"` // chosen, and cannot be staged
	InOpen   int        `json:"in_open,omitempty"` // left out, since they wait in an open batch
}

// BatchRun is what became of one batch in a run.
type BatchRun struct {
	Batch   int                     `json:"batch"`
	Actions []string                `json:"actions"`
	Lines   int                     `json:"lines"`
	States  map[batch.LineState]int `json:"states,omitempty"` // its lines, once it was carried out
	Waits   string                  `json:"waits,omitempty"`  // for what it waits
	Halted  string                  `json:"halted,omitempty"`
}

// Severities counts findings.
type Severities struct {
	High   int `json:"high"`
	Medium int `json:"medium"`
	Low    int `json:"low"`
	Info   int `json:"info"`
}

// All is how many there are.
func (s Severities) All() int { return s.High + s.Medium + s.Low + s.Info }

// At is how many there are of one severity.
func (s *Severities) At(level audit.Severity) *int {
	return map[audit.Severity]*int{audit.High: &s.High, audit.Medium: &s.Medium, audit.Low: &s.Low, audit.Info: &s.Info}[level]
}

func (s *Severities) add(findings []audit.Finding) {
	for i := range findings {
		*s.At(findings[i].Severity)++
	}
}

// Recipient is somebody who is told.
type Recipient struct {
	Address string `json:"address"`
	How     string `json:"how"` // mail or post
	Subject string `json:"subject,omitempty"`
	State   string `json:"state,omitempty"`
	Error   string `json:"error,omitempty"`
}

// LogLine is one line of a run's log.
type LogLine struct {
	At   time.Time `json:"at"`
	Text string    `json:"text"`
}

// Headline is the subject of the first mail, "" where nobody got one.
func (r *Run) Headline() string {
	if len(r.Told) == 0 {
		return ""
	}
	return r.Told[0].Subject
}

// Lines counts the lines that the run staged.
func (r *Run) Lines() (n int) {
	for _, step := range r.steps("stage") {
		for _, b := range step.Batches {
			n += b.Lines
		}
	}
	return n
}

// steps are the steps of one sort.
func (r *Run) steps(sort string) (all []*StepRun) {
	for _, y := range r.Yards {
		for _, s := range y.Steps {
			if s.Step == sort {
				all = append(all, s)
			}
		}
	}
	return all
}

// New counts what is new in all yards.
func (r *Run) New() (all Severities) {
	for _, y := range r.Yards {
		all.and(y.New)
	}
	return all
}

// Faults are what went wrong, in words.
func (r *Run) Faults() (all []string) {
	if r.Error != "" {
		all = append(all, r.Error)
	}
	for _, y := range r.Yards {
		of := y.Yard + ": "
		if len(r.Yards) == 1 {
			of = "" // there is no other
		}
		if y.Error != "" {
			all = append(all, of+y.Error)
		}
		for _, s := range y.Steps {
			if s.Error != "" {
				all = append(all, fmt.Sprintf("%s%s: %s", of, s.Name(), s.Error))
			}
			for _, b := range s.Batches {
				if b.Halted != "" {
					all = append(all, fmt.Sprintf("%sbatch %d was halted: %s", of, b.Batch, b.Halted))
				}
			}
		}
	}
	return all
}

// Name is what to call a step.
func (s *StepRun) Name() string {
	switch {
	case s.Step == "list" && s.Title != "":
		return "list " + s.Title
	case s.Title != "":
		return s.Title
	}
	return s.Step
}

// Waiting are the batches that wait for somebody, by number.
func (r *Run) Waiting() (all []BatchRun) {
	for _, y := range r.Yards {
		for _, s := range y.Steps {
			for _, b := range s.Batches {
				if b.Waits != "" {
					all = append(all, b)
				}
			}
		}
	}
	return all
}

// withoutLog is the run as others get it.
func (r *Run) withoutLog() *Run {
	about := *r
	about.Log = nil
	return &about
}

// record is a run as it is kept.
func (r *Run) record() (*store.Run, error) {
	body, err := json.Marshal(r)
	return &store.Run{ID: r.ID, Round: r.Round, Began: r.Began, Ended: r.Ended, Outcome: string(r.Outcome), Body: body}, err
}

// read reads a run that was kept.
func read(kept *store.Run) (*Run, error) {
	r := &Run{}
	if err := json.Unmarshal(kept.Body, r); err != nil {
		return nil, fmt.Errorf("run %d: %w", kept.ID, err)
	}
	r.ID, r.Round, r.Outcome = kept.ID, kept.Round, Outcome(kept.Outcome)
	r.Began, r.Ended = kept.Began, kept.Ended
	return r, nil
}
