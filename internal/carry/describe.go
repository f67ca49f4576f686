package carry

import (
	"encoding/json"
	"fmt"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
)

// Describe says in one line what a journal record records.
func Describe(r *store.Sealed) string {
	switch r.Event {
	case batch.EventBegun:
		var b beginning
		if json.Unmarshal(r.Body, &b) == nil {
			text := fmt.Sprintf("on %s as %s, %d lines to do", b.Server, b.Bound, b.Lines)
			if len(b.Signed) > 0 {
				text += "; signed by " + strings.Join(b.Signed, ", ")
			}
			return text
		}
	case eventIntent:
		var in intent
		if json.Unmarshal(r.Body, &in) == nil {
			return in.Step.operation().describe()
		}
	case eventOutcome:
		var o outcome
		if json.Unmarshal(r.Body, &o) == nil {
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
	case batch.EventSettled:
		var l batch.Settlement
		if json.Unmarshal(r.Body, &l) == nil {
			return strings.TrimSuffix(fmt.Sprintf("%s is %s: %s", l.Account, l.State, l.Note), ": ")
		}
	case batch.EventEnded:
		var res Result
		if json.Unmarshal(r.Body, &res) == nil {
			text := fmt.Sprintf("%d done, %d not", res.Counts[batch.Applied], res.NotDone())
			if res.Halted != "" {
				text += "; halted: " + res.Halted
			}
			return text
		}
	case EventTried:
		var t Trial
		if json.Unmarshal(r.Body, &t) == nil {
			return t.String()
		}
	case store.EventAccepted:
		var body struct{ Fault, Reason string }
		if json.Unmarshal(r.Body, &body) == nil {
			return body.Fault + "; accepted: " + body.Reason
		}
	case batch.EventSigned, batch.EventProved:
		var sig batch.Signature
		if json.Unmarshal(r.Body, &sig) == nil {
			return fmt.Sprintf("by %s with %s", sig.Principal, sig.Key)
		}
	case batch.EventHeadSigned:
		var h batch.SignedHead
		if json.Unmarshal(r.Body, &h) == nil {
			return fmt.Sprintf("the journal up to record %d, with %s", h.Seq, h.Key)
		}
	case store.EventExempted, store.EventExemptionEnded:
		var e settings.Exemption
		if json.Unmarshal(r.Body, &e) == nil {
			return fmt.Sprintf("%s: %s (owner %s)", e.Match, e.Reason, e.Owner)
		}
	case batch.EventStaged, batch.EventDropped:
		var s struct {
			Lines    int      `json:"lines"`
			Actions  []string `json:"actions"`
			Why      string   `json:"why"`
			Accounts []string `json:"accounts"`
		}
		if json.Unmarshal(r.Body, &s) == nil {
			if r.Event == batch.EventDropped {
				return strings.Join(s.Accounts, ", ")
			}
			return strings.TrimSuffix(fmt.Sprintf("%s, %d to change: %s", strings.Join(s.Actions, ", "), s.Lines, s.Why), ": ")
		}
	}
	return ""
}
