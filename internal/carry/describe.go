package carry

import (
	"encoding/json"
	"fmt"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
)

// Describe says in one line what a journal record records, "" where there is
// nothing to say.
func Describe(r *store.Sealed) string {
	if say := sayings[r.Event]; say != nil {
		return say(r.Body)
	}
	return ""
}

// sayings are what is said of each event, by the body of its record.
var sayings = map[string]func(json.RawMessage) string{
	batch.EventBegun: saying(func(b *beginning) string {
		text := fmt.Sprintf("on %s as %s, %d lines to do", b.Server, b.Bound, b.Lines)
		if len(b.Signed) > 0 {
			text += "; signed by " + strings.Join(b.Signed, ", ")
		}
		return text
	}),
	eventIntent:  saying(func(in *intent) string { return in.Step.operation().describe() }),
	eventOutcome: saying((*outcome).describe),
	batch.EventSettled: saying(func(l *batch.Settlement) string {
		return strings.TrimSuffix(fmt.Sprintf("%s is %s: %s", l.Account, l.State, l.Note), ": ")
	}),
	batch.EventEnded: saying(func(res *Result) string {
		text := fmt.Sprintf("%d done, %d not", res.Counts[batch.Applied], res.NotDone())
		if res.Halted != "" {
			text += "; halted: " + res.Halted
		}
		return text
	}),
	EventTried: saying((*Trial).String),
	store.EventAccepted: saying(func(body *struct{ Fault, Reason string }) string {
		return body.Fault + "; accepted: " + body.Reason
	}),
	batch.EventSigned: saying(signedBy),
	batch.EventProved: saying(signedBy),
	batch.EventHeadSigned: saying(func(h *batch.SignedHead) string {
		return fmt.Sprintf("the journal up to record %d, with %s", h.Seq, h.Key)
	}),
	store.EventExempted:       saying(exempted),
	store.EventExemptionEnded: saying(exempted),
	batch.EventStaged: saying(func(s *edited) string {
		return strings.TrimSuffix(fmt.Sprintf("%s, %d to change: %s", strings.Join(s.Actions, ", "), s.Lines, s.Why),
			": ")
	}),
	batch.EventDropped: saying(func(s *edited) string { return strings.Join(s.Accounts, ", ") }),
}

// saying reads the body of a record and says something of it; "" where it cannot
// be read.
func saying[T any](say func(*T) string) func(json.RawMessage) string {
	return func(body json.RawMessage) string {
		var t T
		if json.Unmarshal(body, &t) != nil {
			return ""
		}
		return say(&t)
	}
}

// edited is the body of a record about a batch that was staged or thinned out.
type edited struct {
	Lines    int      `json:"lines"`
	Actions  []string `json:"actions"`
	Why      string   `json:"why"`
	Accounts []string `json:"accounts"`
}

func signedBy(sig *batch.Signature) string {
	return fmt.Sprintf("by %s with %s", sig.Principal, sig.Key)
}

func exempted(e *settings.Exemption) string {
	return fmt.Sprintf("%s: %s (owner %s)", e.Match, e.Reason, e.Owner)
}

func (o *outcome) describe() string {
	switch {
	case o.Done && o.Answer != "":
		return "found done, by reading, though the answer was: " + o.Answer
	case o.Done && o.Settled:
		return "found done, by reading"
	case o.Done:
		return "done and read back"
	}
	return "not done: " + o.Error
}
