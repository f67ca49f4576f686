package batch

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
)

// Assignment is a value that an account is to get.
type Assignment struct {
	Attr string
	// Old is the value to replace; "" means all that there are.
	Old string
	// New is the value, or for fill the rule that makes it. For clear it is the
	// one value to take away, "" for all.
	New string
}

// ownActions are attributes that set and fill refuse, with what changes them
// instead: a wrong value there opens or closes a door.
var ownActions = map[string]string{
	"useraccountcontrol": "disable and enable", "nsaccountlock": "disable and enable", "pwdaccountlockedtime": "disable, enable and unlock",
	"lockouttime": "unlock", "accountunlocktime": "unlock", "samaccountname": "rename", "uid": "rename", "cn": "rename", "distinguishedname": "move and rename",
	"objectclass": "", "member": "", "uniquemember": "", "memberuid": "", "memberof": "", "primarygroupid": "", "sidhistory": "", "admincount": "",
	"ntsecuritydescriptor": "", "serviceprincipalname": "", "nsroledn": "", "nsrole": "", "objectsid": "", "objectguid": "", "entryuuid": "", "nsuniqueid": "",
	"uidnumber": "", "gidnumber": "", "altsecurityidentities": "", "usercertificate": "", "usersmimecertificate": "", "userpkcs12": "", "iscriticalsystemobject": "",
	"lastlogon": "", "lastlogontimestamp": "", "whencreated": "", "whenchanged": "", "createtimestamp": "", "modifytimestamp": "", "aci": "", "olcaccess": "",
}

// Settable tells why an attribute cannot be changed by set or fill, "" where
// it can.
func Settable(attr string) string {
	name := strings.ToLower(attr)
	instead, own := ownActions[name]
	switch {
	case name == "" || !attributeForm.MatchString(attr):
		return fmt.Sprintf("%q is not the name of an attribute", attr)
	case own && instead != "":
		return attr + " is changed by " + instead + " only"
	case own, directory.IsSecret(attr):
		return attr + " decides on rights or identity, and no batch changes it as a value"
	}
	for _, prefix := range []string{"pwd", "msds-", "krb", "ms-mcs-", "mslaps-", "shadow", "nspassword", "password", "ds-"} {
		if strings.HasPrefix(name, prefix) {
			return attr + " decides on rights or passwords, and no batch changes it as a value"
		}
	}
	return ""
}

var attributeForm = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9-]*$`)

// assign plans the values that an entry is to get.
func (s *Stager) assign(ctx context.Context, name string, e *directory.Entry, want []Assignment, line *Line) error {
	if len(want) == 0 {
		return errors.New("no finding says what it should be")
	}
	var mods []Mod
	for _, w := range want {
		if why := Settable(w.Attr); why != "" {
			return errors.New(why)
		}
		if rdn, _ := directory.SplitDN(e.DN); strings.EqualFold(strings.SplitN(rdn, "=", 2)[0], w.Attr) {
			return fmt.Errorf("%s is in its name: use rename", w.Attr)
		}
		if e.Incomplete(w.Attr) {
			return fmt.Errorf("its %s could not be read whole", w.Attr)
		}
		value := w.New
		if name == Fill {
			var err error
			if value, err = Expand(w.New, e); err != nil {
				return err
			}
		}
		m, err := assignment(name, e, w, value)
		if err != nil {
			return err
		}
		if name == Clear {
			mods = append(mods, m)
			continue
		}
		if err := s.allowed(ctx, e, w.Attr, value); err != nil {
			return err
		}
		mods = append(mods, m)
	}
	line.Actions = append(line.Actions, Action{Name: name, Put: mods})
	for _, m := range mods {
		line.Changes = append(line.Changes, ChangeOf(m))
	}
	return nil
}

func assignment(name string, e *directory.Entry, w Assignment, value string) (Mod, error) {
	now := e.Get(w.Attr)
	m := Mod{Attr: w.Attr, Old: OctetsOf(now), New: []Octets{Octets(value)}}
	blank := !slices.ContainsFunc(now, func(v string) bool { return strings.TrimSpace(v) != "" })
	switch {
	case name == Clear && len(now) == 0:
		return m, fmt.Errorf("it has no %s", w.Attr)
	case name == Clear && w.New == "":
		m.New = nil
	case name == Clear:
		at := slices.Index(now, w.New)
		if at < 0 {
			return m, fmt.Errorf("its %s is %s, not %q", w.Attr, readable(w.Attr, m.Old), w.New)
		}
		m.New = slices.Delete(slices.Clone(m.Old), at, at+1)
	case name == Add && slices.ContainsFunc(now, func(v string) bool { return strings.EqualFold(v, value) }):
		return m, fmt.Errorf("its %s has %q already", w.Attr, value)
	case name == Add && value != "":
		m.New = append(slices.Clone(m.Old), Octets(value))
	case value == "":
		return m, fmt.Errorf("the new %s would be empty", w.Attr)
	case name == Fill && !blank:
		return m, fmt.Errorf("it has a %s already: %q", w.Attr, now[0])
	case w.Old != "":
		at := slices.Index(now, w.Old)
		if at < 0 {
			return m, fmt.Errorf("its %s is %s now, not %q", w.Attr, readable(w.Attr, m.Old), w.Old)
		}
		m.New = OctetsOf(now)
		if m.New[at] = Octets(value); slices.Contains(now, value) {
			m.New = slices.Delete(m.New, at, at+1)
		}
	case len(now) == 1 && now[0] == value:
		return m, fmt.Errorf("its %s is %q already", w.Attr, value)
	}
	return m, nil
}

// allowed refuses a value that would itself be a finding: malformed, or one
// that another account has.
func (s *Stager) allowed(ctx context.Context, e *directory.Entry, attr, value string) error {
	if audit.Malformed(attr, value) {
		return fmt.Errorf("%q cannot be a %s", value, attr)
	}
	if !audit.Unique(attr) {
		return nil
	}
	key := strings.ToLower(attr) + "\x00" + strings.ToLower(value)
	if holder, taken := s.given[key]; taken && holder != directory.FoldDN(e.DN) {
		return fmt.Errorf("another line of the batch gives %s %q already", attr, value)
	}
	s.given[key] = directory.FoldDN(e.DN)
	filter := "(" + attr + "=" + ldap.EscapeFilter(value) + ")"
	if strings.EqualFold(attr, "mail") {
		filter = "(|" + filter + "(proxyAddresses=smtp:" + ldap.EscapeFilter(value) + "))"
	}
	found, err := s.From.Select(ctx, filter, []string{"1.1"})
	if err != nil {
		return err
	}
	for i := range found {
		if directory.FoldDN(found[i].DN) != directory.FoldDN(e.DN) {
			return fmt.Errorf("%s has the %s %q", found[i].DN, attr, value)
		}
	}
	return nil
}

// Expand makes a value by a rule: a text in which {attribute} stands for the
// entry's value of it. Two braces stand for one.
func Expand(rule string, e *directory.Entry) (string, error) {
	value, err := substitute(rule, func(name string) (string, error) {
		switch {
		case !attributeForm.MatchString(name):
			return "", fmt.Errorf("the rule %q has a { that begins no {attribute}", rule)
		case directory.IsSecret(name):
			return "", fmt.Errorf("%s is secret and stands in no rule", name)
		}
		value := strings.TrimSpace(e.First(name))
		if value == "" {
			return "", fmt.Errorf("its %s is blank, so the rule gives nothing", name)
		}
		return value, nil
	})
	return strings.TrimSpace(value), err
}
