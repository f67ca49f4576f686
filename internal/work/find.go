package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// AmbiguousError says that a name may be any of several accounts.
type AmbiguousError struct {
	Name  string
	Found []directory.Entry
}

func (e *AmbiguousError) Error() string {
	var b strings.Builder
	fmt.Fprintf(&b, "%q may be any of %d accounts; say which by logon name or DN:", e.Name, len(e.Found))
	for i := range e.Found {
		if i == 10 {
			fmt.Fprintf(&b, "\n  … and %d more", len(e.Found)-i)
			break
		}
		logon := e.Found[i].First("sAMAccountName")
		if logon == "" {
			logon = e.Found[i].First("uid")
		}
		fmt.Fprintf(&b, "\n  %-20s %s", logon, e.Found[i].DN)
	}
	return b.String()
}

// ErrNoAccount is the error for a name that no account has.
var ErrNoAccount = errors.New("no account")

// FindAccount finds the one account that people call so.
func (s *Session) FindAccount(ctx context.Context, p *Place, name string) (*directory.Entry, error) {
	found, err := findAccounts(ctx, p, name)
	if err != nil {
		return nil, err
	}
	if len(found) > 1 {
		return nil, &AmbiguousError{name, found}
	}
	return &found[0], nil
}

// findAccounts finds accounts by what people call them: a DN, a logon name, a
// principal name, an address, an employee's number; else a part of the display
// name.
func findAccounts(ctx context.Context, src source.Source, name string) ([]directory.Entry, error) {
	var found []directory.Entry
	var err error
	if directory.IsDN(name) {
		found, err = src.Get(ctx, []string{name})
	} else {
		v := source.EscapeFilter(name)
		found, err = src.Find(ctx, "(|(sAMAccountName="+v+")(sAMAccountName="+v+"$)(uid="+v+")(userPrincipalName="+v+")(mail="+v+")(employeeID="+v+")(employeeNumber="+v+"))")
		found = slices.DeleteFunc(found, notAccount)
		if err == nil && len(found) == 0 {
			found, err = src.Find(ctx, "(|(displayName=*"+v+"*)(cn=*"+v+"*))")
		}
	}
	if err != nil {
		return nil, err
	}
	if found = slices.DeleteFunc(found, notAccount); len(found) == 0 {
		return nil, fmt.Errorf("%w is called %q in %s", ErrNoAccount, name, src.Where())
	}
	return found, nil
}

func notAccount(e directory.Entry) bool { return !source.IsAccount(&e) }

// namesAtOnce is how many logon names one search asks for.
const namesAtOnce = 100

// findAll finds one account for each name. Most lists hold logon names or
// DNs, which are looked up many at once; what is neither is looked up by
// itself.
func findAll(ctx context.Context, src source.Source, d *directory.Dialect, names []string) ([]directory.Entry, error) {
	known, err := lookUp(ctx, src, d, names)
	if err != nil {
		return nil, err
	}
	var all []directory.Entry
	for _, name := range names {
		found := known[nameKey(name)]
		if len(found) == 0 {
			if found, err = findAccounts(ctx, src, name); err != nil {
				return nil, err
			}
		}
		if len(found) > 1 {
			return nil, &AmbiguousError{name, found}
		}
		all = append(all, found[0])
	}
	return all, nil
}

// nameKey makes names that mean the same equal.
func nameKey(name string) string {
	if directory.IsDN(name) {
		return directory.FoldDN(name)
	}
	return strings.ToLower(name)
}

// lookUp finds accounts by logon name and by DN, under the keys of their
// names.
func lookUp(
	ctx context.Context, src source.Source, d *directory.Dialect, names []string,
) (map[string][]directory.Entry, error) {
	logon := d.Logon.String()
	var dns, logons []string
	for _, name := range names {
		if directory.IsDN(name) {
			dns = append(dns, name)
		} else {
			logons = append(logons, name)
		}
	}
	byName := map[string][]directory.Entry{}
	keep := func(entries []directory.Entry, key func(*directory.Entry) string) {
		for i := range entries {
			// A DN names what it names; whether it may be changed is judged later.
			if k := key(&entries[i]); directory.IsDN(k) || !notAccount(entries[i]) || entries[i].HasClass("group") {
				byName[k] = append(byName[k], entries[i])
			}
		}
	}
	if len(dns) > 0 {
		found, err := src.Get(ctx, dns)
		if err != nil {
			return nil, err
		}
		keep(found, func(e *directory.Entry) string { return directory.FoldDN(e.DN) })
	}
	for chunk := range slices.Chunk(logons, source.AtOnce(src, namesAtOnce, len(logons))) {
		filter := "(|"
		for _, name := range chunk {
			filter += "(" + logon + "=" + source.EscapeFilter(name) + ")"
		}
		found, err := src.Find(ctx, filter+")")
		if err != nil {
			return nil, err
		}
		keep(found, func(e *directory.Entry) string { return strings.ToLower(e.First(logon)) })
	}
	return byName, nil
}

// matching finds accounts by exact attribute values.
func matching(ctx context.Context, src source.Source, conditions []string) ([]directory.Entry, error) {
	filter := "(&"
	for _, c := range conditions {
		attr, value, ok := strings.Cut(c, "=")
		if !ok || attr == "" || strings.ContainsAny(attr, "()*&|! :<>~") {
			return nil, Wrong("--match: %q is not ATTRIBUTE=VALUE", c)
		}
		if directory.IsSecret(attr) {
			return nil, Wrong("--match: %w", directory.SecretError(attr))
		}
		filter += "(" + attr + "=" + source.EscapeFilter(value) + ")"
	}
	found, err := src.Find(ctx, filter+")")
	if err != nil {
		return nil, err
	}
	if found = slices.DeleteFunc(found, notAccount); len(found) == 0 {
		return nil, errors.New("no account has " + strings.Join(conditions, " and "))
	}
	return found, nil
}

// findGroup finds one group by its name or DN.
func findGroup(ctx context.Context, src source.Source, name string) (*directory.Entry, error) {
	found, err := source.GroupsCalled(ctx, src, name)
	switch {
	case err != nil:
		return nil, err
	case len(found) == 0:
		return nil, Wrong("--group: there is no group %q", name)
	case len(found) > 1:
		return nil, Wrong("--group: %d groups are called %q, such as %s and %s: give a DN", len(found), name,
			found[0].DN, found[1].DN)
	}
	return &found[0], nil
}
