package render

import (
	"bytes"
	"encoding/json"
	"io"
	"time"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
)

// Schema is the version of the JSON shapes. Fields may be added under one
// version; a change of meaning makes a new one.
const Schema = "yardbroom/audit/1"

// FindingShape is a finding in JSON, and a line of JSON lines. Times are in
// UTC.
type FindingShape struct {
	Check      string           `json:"check"`                                  // which check reports it
	Severity   audit.Severity   `json:"severity"`                               // high, medium, low or info
	Kind       string           `json:"kind"`                                   // what the entry is: user, service, computer, resource, group, foreign, policy, ou, exemption or other
	DN         string           `json:"dn"`                                     // the entry's distinguished name
	Account    string           `json:"account"`                                // its logon name, else the value in its name
	Confidence audit.Confidence `json:"confidence"`                             // sure or likely
	Since      *time.Time       `json:"since"            jsonschema:"nullable"` // when the condition began; null where the directory does not show it
	Days       *int             `json:"days"             jsonschema:"nullable"` // whole days from since to the time of the audit; null where since is
	Evidence   EvidenceShape    `json:"evidence"`                               // the attribute values that prove it, in readable form
	Suggest    []string         `json:"suggest"`                                // actions that would clear it
	// Change is new, still or gone; there only in a comparison.
	Change string `json:"change,omitempty"`
}

// EvidenceShape is written as one JSON object in the order of the evidence.
type EvidenceShape []audit.Evidence

// MarshalJSON writes the object.
func (o EvidenceShape) MarshalJSON() ([]byte, error) {
	return orderedObject(len(o), func(i int) (string, any) { return o[i].Attr, o[i].Value })
}

// orderedObject writes a JSON object of n members in their order, which a map
// would lose.
func orderedObject(n int, member func(int) (name string, value any)) ([]byte, error) {
	var b bytes.Buffer
	enc := encoder(&b)
	b.WriteByte('{')
	for i := range n {
		if i > 0 {
			b.WriteByte(',')
		}
		name, value := member(i)
		if err := enc.Encode(name); err != nil {
			return nil, err
		}
		b.WriteByte(':')
		if err := enc.Encode(value); err != nil {
			return nil, err
		}
	}
	b.WriteByte('}')
	return b.Bytes(), nil
}

// encoder writes JSON with values as they are: it is not for HTML.
func encoder(w io.Writer) *json.Encoder {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	return enc
}

func shape(f *audit.Finding) FindingShape {
	out := FindingShape{
		Check:      f.Check,
		Severity:   f.Severity,
		Kind:       f.Kind,
		DN:         f.DN,
		Account:    f.Account,
		Confidence: f.Confidence,
		Evidence:   f.Evidence,
		Suggest:    append([]string{}, f.Suggest...),
		Change:     f.Change,
	}
	if !f.Since.IsZero() {
		since, days := f.Since.UTC(), f.Days
		out.Since, out.Days = &since, &days
	}
	return out
}

// FindingsJSONL writes one finding a line.
func FindingsJSONL(w io.Writer, findings []audit.Finding) error {
	const full = 64 << 10
	b := make([]byte, 0, full+full/4)
	for i := range findings {
		b = append(appendFinding(b, &findings[i]), '\n')
		if len(b) < full && i < len(findings)-1 {
			continue
		}
		if _, err := w.Write(b); err != nil {
			return err
		}
		b = b[:0]
	}
	return nil
}

// SurveyShape is what an audit looked at.
type SurveyShape struct {
	Source   string     `json:"source"`                                 // what the entries were read from
	Server   string     `json:"server,omitempty"`                       // the server that answered
	Dialect  string     `json:"dialect"`                                // ad, openldap or 389ds
	Base     string     `json:"base"`                                   // the top entry's name, folded
	Taken    *time.Time `json:"taken"            jsonschema:"nullable"` // when it was read; null where the source does not say
	Entries  int        `json:"entries"`
	Accounts int        `json:"accounts"`
}

// ReportShape is the report of an audit in JSON. Times are in UTC.
type ReportShape struct {
	Schema   string          `json:"schema"` // yardbroom/audit/1
	AsOf     time.Time       `json:"as_of"`  // the moment it is judged for
	Survey   SurveyShape     `json:"survey"`
	Summary  []audit.Summary `json:"summary"` // an object a check
	Notes    []string        `json:"notes"`   // what a reader has to know about the survey
	Findings []FindingShape  `json:"findings"`
	LeftOutShape
}

// LeftOutShape says which findings were left out, since they are not new.
type LeftOutShape struct {
	Since *time.Time `json:"since,omitempty"`  // the earlier audit whose findings were left out
	NewTo string     `json:"new_to,omitempty"` // the reader who has been told of what was left out
	Known *int       `json:"known,omitempty"`  // how many were left out
}

func leftOutShape(e *audit.Earlier) (out LeftOutShape) {
	if e == nil {
		return out
	}
	if out.NewTo, out.Known = e.Reader, &e.Known; !e.At.IsZero() {
		since := e.At.UTC()
		out.Since = &since
	}
	return out
}

// ReportJSON writes a whole report as one object.
func ReportJSON(w io.Writer, r *audit.Report) error {
	return JSON(
		w,
		ReportShape{
			Schema,
			r.AsOf.UTC(),
			surveyShape(r.Survey),
			r.Summary,
			append([]string{}, r.Notes...),
			FindingShapes(r.Findings),
			leftOutShape(r.Earlier),
		},
	)
}

func surveyShape(s *directory.Survey) SurveyShape {
	out := SurveyShape{
		Source:   s.Source,
		Server:   s.Server,
		Dialect:  s.Dialect.Name,
		Base:     s.Base,
		Entries:  s.Entries,
		Accounts: s.Accounts.Len(),
	}
	if !s.Taken.IsZero() {
		out.Taken = &s.Taken
	}
	return out
}

// JSONLine writes a value on one line.
func JSONLine(w io.Writer, v any) error {
	return encoder(w).Encode(v)
}

// JSON writes any value in the project's way: indented, one trailing newline.
func JSON(w io.Writer, v any) error {
	enc := encoder(w)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}
