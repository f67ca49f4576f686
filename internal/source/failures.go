package source

import (
	"context"
	"errors"
	"strconv"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// Failures is what one server knows of the wrong passwords of an account. On the `ad`
// schema each server counts those that it was asked for, and the others do not know.
type Failures struct {
	Server string
	Err    error       // why it could not be asked
	Wrong  int         // passwords since the last that was right, there
	Last   time.Time   // when the last wrong one came
	Locked time.Time   // since when it is locked, zero where it is not
	Ends   time.Time   // of the lock, where the server says so
	Resets time.Time   // when counting begins anew, where the server says so
	Each   []time.Time // when each came, where the server keeps that
}

// failureAttributes are where servers keep that.
var failureAttributes = []string{"badPwdCount", "badPasswordTime", "lockoutTime", "pwdFailureTime", "pwdAccountLockedTime",
	"passwordRetryCount", "retryCountResetTime", "accountUnlockTime"}

// Failures asks every server of the yard for the wrong passwords of an account; where
// servers tell each other, as all but those of the `ad` schema do, only the own one.
func (s *Server) Failures(ctx context.Context, e *directory.Entry) []Failures {
	all := []Failures{s.failures(ctx, e)}
	if s.Dialect != directory.AD {
		return all
	}
	for _, url := range s.target.Yard.Servers {
		if url != s.URL && !avoided(s.target.Yard.Avoid, url) {
			all = append(all, Failures{Server: url})
		}
	}
	var wg sync.WaitGroup
	for i := 1; i < len(all); i++ {
		wg.Go(func() {
			o := s.other(all[i].Server)
			if err := o.dial(ctx); err != nil {
				all[i] = Failures{Server: hostOf(all[i].Server), Err: err}
				return
			}
			defer o.Close()
			all[i] = o.failures(ctx, e)
		})
	}
	wg.Wait()
	// The same server under two names is one.
	seen := map[string]bool{}
	kept := all[:0]
	for _, f := range all {
		if f.Err != nil || !seen[f.Server] {
			kept = append(kept, f)
		}
		seen[f.Server] = true
	}
	return kept
}

func (s *Server) failures(ctx context.Context, e *directory.Entry) Failures {
	f := Failures{Server: s.HostName()}
	if f.Server == "" {
		f.Server = hostOf(s.URL)
	}
	found, err := s.all(ctx, Query{Base: s.Base, Scope: ldap.ScopeWholeSubtree,
		Filter: IdentityFilter(s.Dialect, e.First(s.Dialect.Identity.String())), Attributes: failureAttributes})
	switch {
	case err != nil:
		f.Err = err
	case len(found) != 1:
		f.Err = errors.New("it does not show the account")
	default:
		f.read(&found[0])
		f.Err = s.tellsFailures(ctx, &found[0])
	}
	return f
}

// errNoFailures is why nothing can be said: whoever may not read them must not be told
// that nobody was refused.
var errNoFailures = errors.New("it does not show wrong passwords to this account")

// tellsFailures tells whether an entry that shows no wrong passwords has none. On the `ad`
// schema every account has the attributes, even if they are 0; elsewhere only an entry of
// which the server may tell is selected by what is true of all.
func (s *Server) tellsFailures(ctx context.Context, e *directory.Entry) error {
	attr := map[*directory.Dialect]string{directory.OpenLDAP: "pwdFailureTime", directory.NS389: "passwordRetryCount"}[s.Dialect]
	switch {
	case s.Dialect == directory.AD && (e.Has("badPwdCount") || e.Has("badPasswordTime")):
		return nil
	case s.Dialect == directory.AD:
		return errNoFailures
	case e.Has(attr):
		return nil
	}
	found, err := s.all(ctx, Query{Base: e.DN, Scope: ldap.ScopeBaseObject, Filter: "(|(" + attr + "=*)(!(" + attr + "=*)))", Attributes: []string{"1.1"}})
	if err == nil && len(found) == 0 {
		err = errNoFailures
	}
	return err
}

func (f *Failures) read(e *directory.Entry) {
	if f.Wrong, _ = strconv.Atoi(e.First("badPwdCount")); f.Wrong == 0 {
		f.Wrong, _ = strconv.Atoi(e.First("passwordRetryCount"))
	}
	f.Last, _ = directory.ParseFileTime(e.First("badPasswordTime"))
	f.Locked, _ = directory.ParseFileTime(e.First("lockoutTime"))
	for _, v := range e.Get("pwdFailureTime") {
		if at, err := directory.ParseGeneralizedTime(v); err == nil {
			f.Each = append(f.Each, at)
			if f.Wrong++; at.After(f.Last) {
				f.Last = at
			}
		}
	}
	if at, err := directory.ParseGeneralizedTime(e.First("pwdAccountLockedTime")); err == nil && at.Year() > 1 {
		f.Locked = at
	}
	f.Ends, _ = directory.ParseGeneralizedTime(e.First("accountUnlockTime"))
	f.Resets, _ = directory.ParseGeneralizedTime(e.First("retryCountResetTime"))
}

// LastChange is the last change of an attribute of an account.
type LastChange struct {
	directory.AttributeChange
	Server string // at which it was made, "" where that is no more
}

// Changes are the last changes of the attributes of an account that say most of it, with
// the servers at which they were made, by the replication metadata of the `ad` schema;
// none on other servers, and where that may not be read.
func (s *Server) Changes(ctx context.Context, e *directory.Entry) ([]LastChange, error) {
	if s.Dialect != directory.AD {
		return nil, nil
	}
	found, err := s.all(ctx, Query{Base: e.DN, Scope: ldap.ScopeBaseObject, Attributes: []string{"replPropertyMetaData"}})
	if err != nil || len(found) == 0 {
		return nil, err
	}
	names := map[string]string{}
	var all []LastChange
	for _, c := range directory.Changed(found[0].First("replPropertyMetaData")) {
		name, asked := names[c.Invocation]
		if !asked {
			servers, err := s.SelectConfiguration(ctx, "(&(objectClass=nTDSDSA)(invocationId="+EscapeOctets(c.Invocation)+"))", []string{"1.1"})
			if err != nil {
				return nil, err
			}
			if len(servers) == 1 {
				_, above := directory.SplitDN(servers[0].DN)
				name = directory.LeafValue(above)
			}
			names[c.Invocation] = name
		}
		all = append(all, LastChange{c, name})
	}
	return all, nil
}
