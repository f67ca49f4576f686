package roster

import (
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
	var list struct {
		Schemas   []string          `json:"schemas"`
		Total     *int              `json:"totalResults"`
		Resources []json.RawMessage `json:"Resources"`
	}
	if strings.HasPrefix(text, "{") {
		if err := json.Unmarshal([]byte(text), &list); err != nil {
			return nil, fmt.Errorf("%s: %w", source, jsonError(text, err))
		}
		if !slices.ContainsFunc(list.Schemas, isListResponse) {
			return nil, fmt.Errorf("%s is one JSON object, neither an array of people nor a SCIM list", source)
		}
		if list.Total != nil && *list.Total != len(list.Resources) {
			return nil, fmt.Errorf("%s holds %d of %d people: a page of a list is no roster, fetch them all", source, len(list.Resources), *list.Total)
		}
		return scim(list.Resources, source, opt)
	}
	var rows []map[string]any
	in := json.NewDecoder(strings.NewReader(text))
	in.UseNumber() // an id of twenty digits stays as it is
	if err := in.Decode(&rows); err != nil {
		return nil, fmt.Errorf("%s: %w", source, jsonError(text, err))
	}
	if _, err := in.Token(); err != io.EOF {
		return nil, fmt.Errorf("%s: something follows the array", source)
	}
	if len(rows) > 0 && rows[0]["schemas"] != nil && rows[0]["userName"] != nil {
		var users []json.RawMessage
		if err := json.Unmarshal([]byte(text), &users); err != nil {
			return nil, fmt.Errorf("%s: %w", source, err)
		}
		return scim(users, source, opt)
	}
	names := map[string]bool{}
	for _, row := range rows {
		for name := range row {
			names[name] = true
		}
	}
	header := slices.Sorted(maps.Keys(names))
	t := &table{form: "JSON array", rows: []line{{0, header}}}
	for i, row := range rows {
		cells := make([]string, len(header))
		for j, name := range header {
			text, err := jsonText(row[name])
			if err != nil {
				return nil, fmt.Errorf("%s: element %d: %s: %w", source, i+1, name, err)
			}
			cells[j] = text
		}
		t.rows = append(t.rows, line{i + 1, cells})
	}
	return t.understand(source, opt)
}

// jsonError says in which line a syntax error stands.
func jsonError(text string, err error) error {
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		return fmt.Errorf("line %d: %w", 1+strings.Count(text[:min(int(syntax.Offset), len(text))], "\n"), err)
	}
	return err
}

// jsonText writes a simple value; what is nested means nothing to a roster.
func jsonText(v any) (string, error) {
	switch v := v.(type) {
	case nil:
		return "", nil
	case string:
		return v, nil
	case bool:
		return strconv.FormatBool(v), nil
	case json.Number:
		return v.String(), nil
	}
	return "", errors.New("a list or an object where a text, a number or a date is meant")
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
			status = map[bool]string{true: string(SaysActive), false: string(SaysLeft)}[*u.Active]
		}
		t.rows = append(t.rows, line{i + 1, []string{cmp.Or(u.Enterprise.Number, u.ExternalID), u.Name.Family, u.Name.Given, cmp.Or(u.Name.Formatted, u.DisplayName), mail, u.UserName,
			u.Enterprise.Department, u.Title, place, u.Enterprise.Manager.Value, status}})
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
