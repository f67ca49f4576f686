package roster

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// readJSON reads a JSON array of objects, or a SCIM 2.0 list of users (RFC
// 7644, section 3.4.2).
func readJSON(text, source string, opt Options) (*Roster, error) {
	if strings.HasPrefix(text, "{") {
		return readObject(text, source, opt)
	}
	in := json.NewDecoder(strings.NewReader(text))
	in.UseNumber() // an id of twenty digits stays as it is
	if _, err := in.Token(); err != nil {
		return nil, fmt.Errorf("%s: %w", source, jsonError(text, err))
	}
	var rows []map[string]any
	var users []json.RawMessage
	for in.More() {
		var one json.RawMessage
		if err := in.Decode(&one); err != nil {
			return nil, fmt.Errorf("%s: %w", source, jsonError(text, err))
		}
		row, err := jsonRow(one)
		switch {
		case err != nil:
			return nil, fmt.Errorf("%s: element %d is %w", source, len(rows)+1, err)
		case len(rows) == opt.Limits.Rows:
			return nil, fmt.Errorf("%s: %w", source, opt.Limits.tooManyRows())
		case users != nil || len(rows) == 0 && row["schemas"] != nil && row["userName"] != nil:
			users = append(users, one)
		}
		rows = append(rows, row)
	}
	if _, err := in.Token(); err != nil {
		return nil, fmt.Errorf("%s: %w", source, jsonError(text, err))
	}
	if _, err := in.Token(); err != io.EOF {
		return nil, fmt.Errorf("%s: something follows the array", source)
	}
	if users != nil {
		return scim(users, source, opt)
	}
	return jsonTable(rows, source, opt)
}

// readObject reads one JSON object, which is a roster only if it is a SCIM
// list. What else it looks like is said.
func readObject(text, source string, opt Options) (*Roster, error) {
	var list struct {
		Schemas   []string          `json:"schemas"`
		Total     *int              `json:"totalResults"`
		Resources []json.RawMessage `json:"Resources"`
	}
	in := json.NewDecoder(strings.NewReader(text))
	var whole json.RawMessage
	if err := in.Decode(&whole); err != nil {
		return nil, fmt.Errorf("%s: %w", source, jsonError(text, err))
	}
	if in.More() {
		return nil, fmt.Errorf("%s is JSON with one object a line: put all of them into one array, [{…},{…}]", source)
	}
	if err := json.Unmarshal(whole, &list); err != nil || !slices.ContainsFunc(list.Schemas, isListResponse) {
		var keys map[string]json.RawMessage
		if err := json.Unmarshal(whole, &keys); err != nil {
			return nil, fmt.Errorf("%s: %w", source, err)
		}
		return nil, fmt.Errorf("%s is one JSON object, neither an array of people nor a SCIM list%s", source,
			arrayIn(keys))
	}
	if list.Total != nil && *list.Total != len(list.Resources) {
		return nil, fmt.Errorf("%s holds %d of %d people: a page of a list is no roster, fetch them all", source,
			len(list.Resources), *list.Total)
	}
	if len(list.Resources) > opt.Limits.Rows {
		return nil, fmt.Errorf("%s: %w", source, opt.Limits.tooManyRows())
	}
	return scim(list.Resources, source, opt)
}

// arrayIn tells in which member of an object a list of people may stand.
func arrayIn(members map[string]json.RawMessage) string {
	names := slices.Sorted(maps.Keys(members))
	if len(names) == 0 {
		return ""
	}
	for _, name := range names {
		if value := strings.TrimLeft(string(members[name]), " \t\r\n"); strings.HasPrefix(value, "[") &&
			strings.HasPrefix(strings.TrimLeft(value[1:], " \t\r\n"), "{") {
			return fmt.Sprintf("; its %q is an array: if that is all people and not one page of them, give it alone",
				name)
		}
	}
	return fmt.Sprintf("; it holds %s", strings.Join(names[:min(len(names), 8)], ", "))
}

// jsonRow reads one element of an array of people. The error says what it is
// instead.
func jsonRow(one json.RawMessage) (row map[string]any, err error) {
	switch one[0] {
	case '[':
		return nil, errors.New("an array: each person has to be an object, {\"id\": …}")
	case '{':
	default:
		return nil, fmt.Errorf("%.40s: each person has to be an object, {\"id\": …}", one)
	}
	in := json.NewDecoder(bytes.NewReader(one))
	in.UseNumber()
	return row, in.Decode(&row)
}

// jsonTable makes a table of objects, with a column for each name. What is a
// list or an object in any row means nothing to a roster, and is left out.
func jsonTable(rows []map[string]any, source string, opt Options) (*Roster, error) {
	names, nested := map[string]bool{}, map[string]bool{}
	for i, row := range rows {
		for name, value := range row {
			if _, ok := jsonText(value); ok {
				names[name] = true
			} else {
				nested[name] = true
			}
		}
		if len(names) > opt.Limits.Columns {
			return nil, fmt.Errorf(
				"%s: the first %d people have %d different columns, more than the %d that a roster may have", source,
				i+1, len(names), opt.Limits.Columns)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(nested)) {
		if f, ok := named(name, opt.Names); ok && decides(f) {
			return nil, fmt.Errorf("%s: %s: a list or an object where a text, a number or a date is meant", source,
				name)
		}
		delete(names, name)
	}
	header := slices.Sorted(maps.Keys(names))
	t := &table{form: "JSON array", rows: []line{{0, header}}}
	for i, row := range rows {
		cells := make([]string, len(header))
		for j, name := range header {
			cells[j], _ = jsonText(row[name])
		}
		t.rows = append(t.rows, line{i + 1, cells})
	}
	r, err := t.understand(source, opt)
	if err == nil {
		for _, name := range slices.Sorted(maps.Keys(nested)) {
			r.Unused = append(r.Unused, name+" (a list or an object)")
		}
	}
	return r, err
}

// decides tells of a field that who somebody is, or whether they have left, may
// hang on it.
func decides(f Field) bool {
	switch f {
	case Department, Title, Location, Manager:
		return false
	}
	return true
}

// jsonError says in which line a syntax error stands.
func jsonError(text string, err error) error {
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		return fmt.Errorf("line %d: %w", 1+strings.Count(text[:min(int(syntax.Offset), len(text))], "\n"), err)
	}
	return err
}

// jsonText writes a simple value; it is not ok for what is nested.
func jsonText(v any) (text string, ok bool) {
	switch v := v.(type) {
	case nil:
		return "", true
	case string:
		return v, true
	case bool:
		return strconv.FormatBool(v), true
	case json.Number:
		return v.String(), true
	}
	return "", false
}

// scimUser is what a roster takes of a SCIM user (RFC 7643, sections 4.1 and
// 4.3).
type scimUser struct {
	ExternalID string `json:"externalId"`
	UserName   string `json:"userName"`
	Name       struct {
		Given     string `json:"givenName"`
		Family    string `json:"familyName"`
		Formatted string `json:"formatted"`
	} `json:"name"`
	DisplayName string `json:"displayName"`
	Title       string `json:"title"`
	Active      *bool  `json:"active"`
	Emails      []struct {
		Value   string `json:"value"`
		Primary bool   `json:"primary"`
		Type    string `json:"type"`
	} `json:"emails"`
	Addresses []struct {
		Locality string `json:"locality"`
		Type     string `json:"type"`
	} `json:"addresses"`
	Enterprise struct {
		Number     string `json:"employeeNumber"`
		Department string `json:"department"`
		Manager    struct {
			Value string `json:"value"`
		} `json:"manager"`
	} `json:"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"`
}

var scimFields = []Field{PersonID, Family, Given, FullName, Mail, Logon, Department, Title, Location, Manager, Status}

// scim reads SCIM users. Columns have the fields' own names, so there is
// nothing to find out.
func scim(users []json.RawMessage, source string, opt Options) (*Roster, error) {
	if len(opt.Map) > 0 {
		return nil, fmt.Errorf("%s is a SCIM list, whose attributes have their meaning: nothing can be mapped", source)
	}
	header := make([]string, len(scimFields))
	opt.Names = map[Field][]string{}
	for i, f := range scimFields {
		header[i] = f.String()
		opt.Names[f] = header[i : i+1]
	}
	t := &table{form: "SCIM users", rows: []line{{0, header}}}
	for i, raw := range users {
		var u scimUser
		if err := json.Unmarshal(raw, &u); err != nil {
			return nil, fmt.Errorf("%s: user %d: %w", source, i+1, err)
		}
		mail, place, status := "", "", ""
		for _, e := range u.Emails {
			if mail == "" || e.Primary || e.Type == "work" && !u.primaryMail() {
				mail = e.Value
			}
		}
		for _, a := range u.Addresses {
			if place == "" || a.Type == "work" {
				place = a.Locality
			}
		}
		if u.Active != nil {
			status = map[bool]string{true: string(WordActive), false: string(WordLeft)}[*u.Active]
		}
		t.rows = append(
			t.rows,
			line{
				i + 1,
				[]string{
					cmp.Or(u.Enterprise.Number, u.ExternalID),
					u.Name.Family,
					u.Name.Given,
					cmp.Or(u.Name.Formatted, u.DisplayName),
					mail,
					u.UserName,
					u.Enterprise.Department,
					u.Title,
					place,
					u.Enterprise.Manager.Value,
					status,
				},
			},
		)
	}
	return t.understand(source, opt)
}

func (u *scimUser) primaryMail() bool {
	for _, e := range u.Emails {
		if e.Primary {
			return true
		}
	}
	return false
}
