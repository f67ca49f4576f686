package logs

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// Mapping says which columns of a table, or fields of JSON lines, mean what, in logs of
// a shape that is not known. Fields within objects are written a.b.c.
type Mapping struct {
	Time, Account, Domain, Address, Machine, By, Result string
	// Success and Failure are the words of the result column that mean a sign-in, and
	// a refused one; a word that is in neither is no sign-in. Without a result column
	// every row is a sign-in.
	Success, Failure []string
}

// mapped makes an event of a row.
func (r *Reader) mapped(get func(string) string) error {
	m := r.o.Mapping
	at, err := r.o.stamp(get(m.Time))
	if err != nil {
		return err
	}
	r.saw(at)
	e := &Event{At: at, What: SignedIn, Name: strings.TrimSpace(get(m.Account)), Domain: strings.TrimSpace(get(m.Domain)),
		Machine: strings.TrimSpace(get(m.Machine)), Via: strings.TrimSpace(get(m.By)), Kind: "mapped", Line: r.number}
	from := strings.TrimSpace(get(m.Address))
	if e.Address = address(from); !e.Address.IsValid() && e.Machine == "" {
		e.Machine = from
	}
	if m.Result != "" {
		result := strings.TrimSpace(get(m.Result))
		is := func(word string) bool { return strings.EqualFold(word, result) }
		switch {
		case slices.ContainsFunc(m.Success, is):
		case slices.ContainsFunc(m.Failure, is):
			e.What, e.Why, e.Code = Refused, WrongOrLocked, result
		default:
			return nil
		}
	}
	if e.Name != "" {
		r.give(e)
	}
	return nil
}

func (r *Reader) mappedObject(line []byte) error {
	dec := json.NewDecoder(bytes.NewReader(line))
	dec.UseNumber()
	var top map[string]any
	if err := dec.Decode(&top); err != nil {
		return err
	}
	return r.mapped(func(path string) string {
		if path == "" {
			return ""
		}
		if v, is := top[path]; is {
			return scalar(v)
		}
		var at any = top
		for part := range strings.SplitSeq(path, ".") {
			o, is := at.(map[string]any)
			if !is {
				return ""
			}
			at = o[part]
		}
		return scalar(at)
	})
}

func scalar(v any) string {
	switch t := v.(type) {
	case string:
		return t
	case json.Number:
		return t.String()
	case bool:
		return fmt.Sprint(t)
	}
	return ""
}

// table reads a table with a header. A row that cannot be read is counted, and reading
// goes on behind it.
func (r *Reader) table(in io.Reader, comma rune) error {
	rows := csv.NewReader(in)
	rows.Comma, rows.FieldsPerRecord, rows.ReuseRecord, rows.LazyQuotes = comma, -1, true, true
	header, err := rows.Read()
	if errors.Is(err, io.EOF) {
		return nil
	}
	if err != nil {
		return err
	}
	columns := map[string]int{}
	for i, title := range header {
		columns[strings.ToLower(strings.TrimSpace(strings.TrimPrefix(title, "\ufeff")))] = i
	}
	m := r.o.Mapping
	for _, title := range []string{m.Time, m.Account, m.Domain, m.Address, m.Machine, m.By, m.Result} {
		if _, is := columns[strings.ToLower(title)]; title != "" && !is {
			return fmt.Errorf("no column is called %q: the first line names %s", title, strings.Join(slices.Clone(header), ", "))
		}
	}
	r.report.Lines = 1
	for {
		row, err := rows.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if parse := (*csv.ParseError)(nil); err != nil && !errors.As(err, &parse) {
			return err
		}
		r.report.Lines++
		r.number, _ = rows.FieldPos(0)
		if err == nil {
			err = r.mapped(func(title string) string {
				if i, is := columns[strings.ToLower(title)]; is && title != "" && i < len(row) {
					return row[i]
				}
				return ""
			})
		}
		if err != nil {
			r.broken(err)
		} else {
			r.report.Known++
		}
		if r.failed != nil {
			return r.failed
		}
	}
}
