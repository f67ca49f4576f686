package work

import (
	"cmp"
	"context"
	"crypto/sha256"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/pattern"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// A new yard is found step by step: its servers, whether their certificate is to be
// trusted, what they hold, and, once somebody has signed in, what stands in it.

// FindServers turns what somebody calls a directory into URLs of its servers: what is a
// URL already, the servers that DNS names for a domain, or a host.
func (s *Session) FindServers(ctx context.Context, lookup source.LookupSRV, name string) (urls []string, byDNS bool) {
	if strings.Contains(name, "://") {
		return []string{name}, false
	}
	hosts := []string(nil)
	if lookup != nil && strings.Contains(name, ".") {
		hosts = source.DomainServers(ctx, lookup, name)
	}
	if byDNS = len(hosts) > 0; !byDNS {
		hosts = []string{name}
	}
	for _, h := range hosts {
		urls = append(urls, "ldaps://"+h)
	}
	return urls, byDNS
}

// Doubt is a certificate that leads to no authority that is known here.
type Doubt struct {
	Server *x509.Certificate
	// Trusted is what would be trusted from then on: the authority, where the server
	// shows it, else its own certificate.
	Trusted *x509.Certificate
	Self    bool // it is the server's own
}

// PEM is what is to be trusted, as a file holds it.
func (d *Doubt) PEM() []byte {
	return pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: d.Trusted.Raw})
}

// Greet asks a server what it holds. Where its certificate is signed by nobody known
// here, there is a doubt instead, and nothing was said to it. One that speaks no TLS at
// all is tried with StartTLS and, on this machine, without any; the yard says how it
// was reached.
func (s *Session) Greet(ctx context.Context, yard *settings.Yard) (g *source.Greeting, doubt *Doubt, err error) {
	g, err = source.Greet(ctx, source.Target{Yard: *yard})
	if host, ok := strings.CutPrefix(yard.Servers[0], "ldaps://"); ok && err != nil && !isUnknownAuthority(err) && !strings.Contains(host, ":") {
		plain := *yard
		plain.Servers, plain.StartTLS = []string{"ldap://" + host}, true
		if other, otherErr := source.Greet(ctx, source.Target{Yard: plain}); otherErr == nil || isUnknownAuthority(otherErr) {
			for i := range yard.Servers {
				yard.Servers[i] = strings.Replace(yard.Servers[i], "ldaps://", "ldap://", 1)
			}
			yard.StartTLS = true
			g, err = other, otherErr
		}
	}
	if err == nil || !isUnknownAuthority(err) {
		return g, nil, err
	}
	chain, seen := source.Presented(ctx, yard.Servers[0], yard.StartTLS)
	if seen != nil || len(chain) == 0 {
		return nil, nil, err
	}
	last := chain[len(chain)-1]
	return nil, &Doubt{Server: chain[0], Trusted: last, Self: len(chain) == 1}, nil
}

func isUnknownAuthority(err error) bool { return errors.Is(err, source.ErrUnknownAuthority) }

// Found is what a new yard turned out to hold.
type Found struct {
	Identity source.Identity
	Dialect  string
	Others   []string // URLs of servers that the directory names and the yard does not
	Accounts int
	Units    []FoundUnit // right below the base, with accounts in them
	Parking  []FoundUnit // where disabled accounts are kept
	Services []FoundUnit // where the accounts of programs are
}

// FoundUnit is an OU, and what stands in and below it.
type FoundUnit struct {
	DN                           string
	Accounts, Disabled, Services int
}

// LookOver signs in to a new yard, reads it and tells what it holds.
func (s *Session) LookOver(ctx context.Context, yard settings.Yard, ask func(string) (string, error)) (*Found, error) {
	server, err := source.Connect(ctx, source.Target{Yard: yard, Ask: ask, Now: s.Now, Progress: s.Progress})
	if err != nil {
		return nil, err
	}
	defer server.Close()
	found := &Found{Dialect: server.Dialect.Name}
	if found.Identity, err = server.Identity(ctx); err != nil {
		return nil, err
	}
	known, err := server.Servers(ctx, nil)
	if err != nil {
		return nil, err
	}
	scheme, _, _ := strings.Cut(server.URL, "://")
	for _, k := range known {
		if k.URL == "" && !k.Connected {
			found.Others = append(found.Others, scheme+"://"+k.Host)
		}
	}
	survey, err := server.Survey(ctx)
	if err != nil {
		return nil, err
	}
	services, err := regexp.Compile("(?i)" + s.Settings.Audit.ServiceAccountPattern)
	if err != nil {
		return nil, err
	}
	found.read(survey, services, s)
	return found, nil
}

// Names that parking places and homes of service accounts often bear.
var (
	parkingName = pattern.Lazy(`(?i)\b(parked|parking|disabled|deactivated|inactive|leavers?|former|retired|archived? (users|accounts)|to be deleted|graveyard|deaktiviert|ehemalige|désactivés?)\b`)
	serviceName = pattern.Lazy(`(?i)\b(services?|service accounts?|svc|robots?|functional|non.?personal|dienstkonten)\b`)
)

// fewest is how many accounts an OU holds from which what it is for can be told by
// them.
const fewest = 4

// read tells what a survey holds.
func (f *Found) read(survey *directory.Survey, services *regexp.Regexp, s *Session) {
	units := map[directory.Key]*FoundUnit{}
	for i := range survey.Units {
		u := &survey.Units[i]
		if !u.BuiltIn && u.Kind == directory.KindOU {
			units[u.Key] = &FoundUnit{DN: u.DN}
		}
	}
	for a := range survey.Accounts.All() {
		if a.BuiltIn {
			continue
		}
		f.Accounts++
		disabled := survey.Disabled(a, s.now()).Yes
		service := a.Kind == directory.KindService || services.MatchString(a.Logon)
		_, above := directory.SplitDN(a.DN)
		for ; above != ""; _, above = directory.SplitDN(above) {
			if u := units[directory.KeyOf(above)]; u != nil {
				u.Accounts++
				if disabled {
					u.Disabled++
				}
				if service {
					u.Services++
				}
			}
		}
	}
	var all []*FoundUnit
	for _, u := range units {
		all = append(all, u)
	}
	slices.SortFunc(all, func(a, b *FoundUnit) int {
		return cmp.Or(cmp.Compare(strings.Count(a.DN, ","), strings.Count(b.DN, ",")), -cmp.Compare(a.Accounts, b.Accounts), strings.Compare(a.DN, b.DN))
	})
	below := func(dn string, of []FoundUnit) bool {
		return slices.ContainsFunc(of, func(u FoundUnit) bool { return directory.Under(directory.FoldDN(dn), directory.FoldDN(u.DN)) })
	}
	for _, u := range all {
		name := directory.LeafValue(u.DN)
		if _, parent := directory.SplitDN(u.DN); directory.FoldDN(parent) == directory.FoldDN(f.Identity.Base) && u.Accounts > 0 && !strings.EqualFold(name, "Domain Controllers") {
			f.Units = append(f.Units, *u)
		}
		switch {
		case below(u.DN, f.Parking) || below(u.DN, f.Services):
		case parkingName().MatchString(name) && u.Disabled*2 >= u.Accounts, u.Accounts >= fewest && u.Disabled*10 >= u.Accounts*9:
			f.Parking = append(f.Parking, *u)
		case serviceName().MatchString(name) && u.Accounts > 0, u.Accounts >= fewest && u.Services*10 >= u.Accounts*8:
			f.Services = append(f.Services, *u)
		}
	}
}

// Fingerprint writes the SHA-256 of a certificate as people compare it.
func Fingerprint(c *x509.Certificate) string {
	sum := sha256.Sum256(c.Raw)
	parts := make([]string, len(sum))
	for i, b := range sum {
		parts[i] = fmt.Sprintf("%02X", b)
	}
	return strings.Join(parts, ":")
}

// SameFingerprint compares one that somebody typed.
func SameFingerprint(c *x509.Certificate, typed string) bool {
	bare := strings.NewReplacer(":", "", " ", "", "-", "")
	return strings.EqualFold(bare.Replace(Fingerprint(c)), bare.Replace(typed))
}
