package source

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// logons is what one more server knows of sign-ins and passwords, by identity.
type logons struct {
	name  string
	known map[string]directory.ServerTimes
	err   error
}

// replicationLag is for how long a change on one server may not be known to
// another: two weeks, after which directories are taken to be broken.
const replicationLag = 14 * 24 * time.Hour

// replicatesWithin is that time where the yard says another one.
func (s *Server) replicatesWithin() time.Duration {
	if t := time.Duration(s.target.Yard.ReplicatesWithin); t > 0 {
		return t
	}
	return replicationLag
}

// askOthers begins to ask the other servers of the yard for what is not
// replicated, or may not be yet, of the entries that a filter selects. The
// function it returns waits for their answers.
func (s *Server) askOthers(ctx context.Context, filter string) func() []logons {
	var all []logons
	if s.Dialect != directory.AD {
		return func() []logons { return all }
	}
	for _, url := range s.target.Yard.Servers {
		if url != s.URL && !avoided(s.target.Yard.Avoid, url) {
			all = append(all, logons{name: url})
		}
	}
	var wg sync.WaitGroup
	for i := range all {
		wg.Go(func() { all[i] = s.askOther(ctx, all[i].name, filter) })
	}
	return func() []logons {
		wg.Wait()
		// The same server under two names is one.
		return slices.DeleteFunc(all, func(o logons) bool { return o.err == nil && o.name == s.HostName() })
	}
}

func (s *Server) askOther(ctx context.Context, url, filter string) logons {
	out := logons{name: hostOf(url), known: map[string]directory.ServerTimes{}}
	o := s.other(url)
	if out.err = o.dial(ctx); out.err != nil {
		return out
	}
	defer o.Close()
	out.name = o.HostName()
	shown := 0
	// What has changed there lately may not have reached the first server yet.
	lately := "(whenChanged>=" + generalizedAD(s.target.now().Add(-s.replicatesWithin())) + ")"
	ask := func(filter string, first bool) error {
		return o.retry(ctx, func() error {
			clear(out.known)
			shown = 0
			_, err := o.Search(
				ctx,
				Query{
					Base:   s.Base,
					Scope:  ldap.ScopeWholeSubtree,
					Filter: "(&(|(lastLogon>=1)" + lately + ")" + filter + ")",
					Attributes: []string{
						"objectGUID",
						"lastLogon",
						"lastLogonTimestamp",
						"pwdLastSet",
					},
					FirstPage: first,
				},
				func(page []directory.Entry) error {
					for i := range page {
						a := directory.AD.Account(&page[i])
						out.known[a.ID] = directory.ServerTimes{
							LastLogon:   a.LastLogon,
							LastLogonTS: a.LastLogonTS,
							PasswordSet: a.PasswordSet,
						}
						if a.LastLogon.Known() {
							shown++
						}
					}
					return nil
				},
			)
			return err
		})
	}
	if out.err = ask(filter, false); out.err == nil && shown == 0 && filter != "" {
		out.err = ask("", true) // does it show any at all?
	}
	if out.err == nil && shown == 0 {
		// Whoever may not read the attribute gets the same answer as from a
		// server that nobody has signed in to.
		out.err = errNoSignIns
	}
	return out
}

var errNoSignIns = errors.New("it shows no sign-ins of its own to this account")

// other is another server of the same yard, not yet connected.
func (s *Server) other(url string) *Server {
	t := s.target
	t.Progress = nil // it works beside another
	t.Yard.Servers, t.Yard.Base, t.Yard.Dialect = []string{url}, s.Base, s.Dialect.Name
	return &Server{URL: url, target: t, allowed: map[string][]string{}, password: s.password}
}

// hostOf is the host of a server's URL, for people.
func hostOf(url string) string {
	if u, err := parseURL(url); err == nil && u.Hostname() != "" {
		return u.Hostname()
	}
	return url
}
