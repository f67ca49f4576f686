package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/wording"
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

// FindAccount finds the one account that people call so: by DN, logon name (with or
// without the $ of computers), sign-in name, mail address, employee's number, or its
// whole display name.
func (s *Session) FindAccount(ctx context.Context, p *Place, name string) (*directory.Entry, error) {
	found, err := called(ctx, p, name, true)
	return one(ctx, p, name, found, err)
}

// LookAccountUp is FindAccount, for those who only look: a part of the display name will
// do where one account only has it.
func (s *Session) LookAccountUp(ctx context.Context, p *Place, name string) (*directory.Entry, error) {
	found, err := called(ctx, p, name, true)
	if err == nil && len(found) == 0 && !directory.IsDN(name) {
		v := source.EscapeFilter(name)
		found, err = p.Find(ctx, "(|(displayName=*"+v+"*)(cn=*"+v+"*))")
		found = slices.DeleteFunc(found, notAccount)
	}
	return one(ctx, p, name, found, err)
}

// one is the one entry that was found under a name.
func one(ctx context.Context, src source.Source, name string, found []directory.Entry, err error) (*directory.Entry, error) {
	switch {
	case err != nil:
		return nil, err
	case len(found) == 0:
		return nil, notFound(ctx, src, name)
	case len(found) > 1:
		return nil, &AmbiguousError{name, found}
	}
	return &found[0], nil
}

// notFound is the error for a name that no account has, with names that are like it, or
// what else is called so.
func notFound(ctx context.Context, src source.Source, name string) error {
	others, err := called(ctx, src, name, false)
	if err != nil {
		return err
	}
	if len(others) > 0 {
		return fmt.Errorf("%w is called %q in %s: %s is %s", ErrNoAccount, name, src.Where(), others[0].DN, whatItIs(&others[0]))
	}
	names, err := namesLike(ctx, src, name)
	if err != nil {
		return err
	}
	return fmt.Errorf("%w is called %q in %s%s", ErrNoAccount, name, src.Where(), wording.DidYouMean(name, names))
}

// whatItIs says what an entry is that is no account.
func whatItIs(e *directory.Entry) string {
	switch {
	case source.IsGroup(e):
		return "a group"
	case e.HasClass("organizationalUnit"):
		return "an OU"
	case e.HasClass("groupPolicyContainer"):
		return "a policy"
	}
	return "not an account"
}

func notAccount(e directory.Entry) bool { return !source.IsAccount(&e) }

// namesLike are names of accounts and groups that begin as a name does.
func namesLike(ctx context.Context, src source.Source, name string) (names []string, err error) {
	const alike = 2 // characters at the beginning
	if directory.IsDN(name) || len([]rune(name)) <= alike {
		return nil, nil
	}
	begin := source.EscapeFilter(string([]rune(name)[:alike]))
	found, err := src.Select(ctx, "(|(sAMAccountName="+begin+"*)(uid="+begin+"*)(displayName="+begin+"*)(cn="+begin+"*))",
		[]string{"objectClass", "sAMAccountName", "uid", "displayName", "cn"})
	for i := range found {
		for _, attr := range []string{"sAMAccountName", "uid", "displayName", "cn"} {
			if v := strings.TrimSuffix(found[i].First(attr), "$"); v != "" && !slices.Contains(names, v) {
				names = append(names, strings.Clone(v))
			}
		}
	}
	return names, err
}

// calling is one way in which people call entries of a kind: by values of attributes.
type calling struct {
	is    func(*directory.Entry) bool
	attrs []string
}

// callings are the ways in which people call entries, the surest first: by the
// attributes of an account that are its own, by its names, then groups, policies and
// OUs by theirs.
var callings = []calling{
	{source.IsAccount, []string{"sAMAccountName", "uid", "userPrincipalName", "mail", "employeeID", "employeeNumber"}},
	{source.IsAccount, []string{"displayName", "cn"}},
	{source.IsGroup, []string{"sAMAccountName", "cn", "displayName"}},
	{func(e *directory.Entry) bool { return e.HasClass("groupPolicyContainer") }, []string{"displayName", "cn"}},
	{func(e *directory.Entry) bool { return e.HasClass("organizationalUnit") }, []string{"ou", "name"}},
}

// leastOfPattern is how many characters a pattern of names must have besides its stars.
const leastOfPattern = 2

// called finds the entries that people call so: accounts only, or, where no account is
// called so, groups, policies and OUs. In a name that is no DN a * stands for any text:
// then all of them are found, of whatever kind.
func called(ctx context.Context, src source.Source, name string, accountsOnly bool) ([]directory.Entry, error) {
	if directory.IsDN(name) {
		found, err := src.Get(ctx, []string{name})
		if accountsOnly {
			found = slices.DeleteFunc(found, notAccount)
		}
		return found, err
	}
	if isPattern(name) && len(strings.ReplaceAll(name, "*", "")) < leastOfPattern {
		return nil, Wrong("%q stands for nearly everything: give at least %d characters besides the *", name, leastOfPattern)
	}
	ways := callings
	if accountsOnly {
		ways = ways[:2]
	}
	v, filter, asked := Wildcards(name), "(|", map[string]bool{}
	for _, way := range ways {
		for _, attr := range way.attrs {
			if !asked[attr] {
				asked[attr] = true
				filter += "(" + attr + "=" + v + ")"
			}
		}
	}
	if !strings.HasSuffix(v, "$") && !strings.HasSuffix(v, "*") {
		filter += "(sAMAccountName=" + v + "$)"
	}
	found, err := src.Find(ctx, filter+")")
	if err != nil {
		return nil, err
	}
	if isPattern(name) {
		return slices.DeleteFunc(found, func(e directory.Entry) bool {
			return !slices.ContainsFunc(ways, func(w calling) bool { return w.is(&e) })
		}), nil
	}
	for _, way := range ways {
		var so []directory.Entry
		for i := range found {
			e := &found[i]
			if way.is(e) && slices.ContainsFunc(way.attrs, func(attr string) bool {
				return slices.ContainsFunc(e.Get(attr), func(v string) bool { return sameName(v, name) })
			}) {
				so = append(so, *e)
			}
		}
		if len(so) > 0 {
			return so, nil
		}
	}
	return nil, nil
}

// sameName tells whether a value is a name, whatever its case, and without the $ behind
// the names of computers.
func sameName(value, name string) bool {
	return strings.EqualFold(value, name) || strings.EqualFold(strings.TrimSuffix(value, "$"), name)
}

// isPattern tells whether a name stands for all that are called like it.
func isPattern(name string) bool { return strings.Contains(name, "*") && !directory.IsDN(name) }

// Wildcards writes a value for a filter, with the * in it as they are: they stand for
// any text.
func Wildcards(value string) string {
	parts := strings.Split(value, "*")
	for i := range parts {
		parts[i] = source.EscapeFilter(parts[i])
	}
	return strings.Join(parts, "*")
}

// namesAtOnce is how many logon names one search asks for.
const namesAtOnce = 100

// FindAll finds the entries that names mean, as people call them: one for each, or, for
// a name with * in it, all that are called so.
func (s *Session) FindAll(ctx context.Context, p *Place, names []string) ([]directory.Entry, error) {
	_, d, err := p.Dialect(ctx)
	if err != nil {
		return nil, err
	}
	return findAll(ctx, p.Source, d, names)
}

// findAll finds the entries that names mean: one for each, or, for a name with * in it,
// all that are called so. Most lists hold logon names or DNs, which are looked up many
// at once; what is neither is looked up by itself.
func findAll(ctx context.Context, src source.Source, d *directory.Dialect, names []string) ([]directory.Entry, error) {
	known, err := lookUp(ctx, src, d, slices.DeleteFunc(slices.Clone(names), isPattern))
	if err != nil {
		return nil, err
	}
	var all []directory.Entry
	taken := map[directory.Key]bool{}
	for _, name := range names {
		found := known[nameKey(name)]
		if len(found) == 0 {
			if found, err = called(ctx, src, name, false); err != nil {
				return nil, err
			}
		}
		switch {
		case len(found) == 0:
			return nil, notFound(ctx, src, name)
		case len(found) > 1 && !isPattern(name):
			return nil, &AmbiguousError{name, found}
		}
		for i := range found {
			if key := directory.KeyOf(found[i].DN); !taken[key] {
				taken[key] = true
				all = append(all, found[i])
			}
		}
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
			if k := key(&entries[i]); directory.IsDN(k) || !notAccount(entries[i]) || source.IsGroup(&entries[i]) {
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

// findGroup finds the group that --group names.
func findGroup(ctx context.Context, src source.Source, name string) (*directory.Entry, error) {
	found, err := groupCalled(ctx, src, name)
	if wrong := (RequestError{}); errors.As(err, &wrong) {
		return nil, Wrong("--group: %w", err)
	}
	return found, err
}

// groupCalled finds one group by its name or DN.
func groupCalled(ctx context.Context, src source.Source, name string) (*directory.Entry, error) {
	found, err := source.GroupsCalled(ctx, src, name)
	switch {
	case err != nil:
		return nil, err
	case len(found) == 0:
		near, err := src.Select(ctx, source.GroupFilter, []string{"1.1"})
		if err != nil {
			return nil, err
		}
		names := make([]string, len(near))
		for i := range near {
			names[i] = directory.LeafValue(near[i].DN)
		}
		return nil, Wrong("there is no group %q%s", name, wording.DidYouMean(name, names))
	case len(found) > 1:
		return nil, Wrong("%d groups are called %q, such as %s and %s: give a DN", len(found), name,
			found[0].DN, found[1].DN)
	}
	return &found[0], nil
}

// containerNamed returns the DN of the container that an option names.
func containerNamed(ctx context.Context, src source.Source, option, name string) (string, error) {
	dn, err := containerCalled(ctx, src, name)
	if wrong := (RequestError{}); errors.As(err, &wrong) {
		return "", Wrong("--%s: %w", option, err)
	}
	return dn, err
}

// containerCalled returns the DN of a container: what is a DN already, else that of the
// one OU of this name.
func containerCalled(ctx context.Context, src source.Source, name string) (string, error) {
	if directory.IsDN(name) {
		return name, nil
	}
	if strings.Contains(name, "=") {
		return "", Wrong("%q is not a distinguished name", name)
	}
	found, err := src.Select(ctx, "(objectClass=organizationalUnit)", []string{"ou"})
	if err != nil {
		return "", err
	}
	var called, names []string
	for i := range found {
		leaf := directory.LeafValue(found[i].DN)
		if strings.EqualFold(leaf, name) {
			called = append(called, found[i].DN)
		}
		if !slices.Contains(names, leaf) {
			names = append(names, leaf)
		}
	}
	switch len(called) {
	case 0:
		return "", Wrong("no OU is called %q%s", name, wording.DidYouMean(name, names))
	case 1:
		return strings.Clone(called[0]), nil
	}
	return "", Wrong("%d OUs are called %q, so give the DN: %s", len(called), name, wording.Some(called))
}
