package source

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"yardbroom/internal/directory"
)

// Greeting is what a server says to somebody who has not signed in.
type Greeting struct {
	Root    Root
	Dialect *directory.Dialect
	// Bases are the names of the directories that it holds, those of its own keeping
	// left out.
	Bases []string
}

// Greet connects to the first server of a yard, signs in as nobody, and asks what it is.
func Greet(ctx context.Context, t Target) (*Greeting, error) {
	s := &Server{URL: t.Yard.Servers[0], target: t, allowed: map[string][]string{}}
	u, err := parseURL(s.URL)
	if err != nil {
		return nil, fmt.Errorf("%q is not an ldap://, ldaps:// or ldapi:// URL", s.URL)
	}
	if s.conn, err = s.open(ctx); err != nil {
		return nil, err
	}
	defer s.conn.Close()
	if err := s.readRoot(u); err != nil && s.Dialect == nil {
		return nil, err
	}
	g := &Greeting{Root: s.Root, Dialect: s.Dialect}
	if s.Root.Default != "" {
		g.Bases = []string{s.Root.Default}
	} else {
		g.Bases = slices.DeleteFunc(slices.Clone(s.Root.NamingContexts), func(dn string) bool { return ownContexts[strings.ToLower(directory.LeafValue(dn))] })
	}
	return g, nil
}

// ownContexts are what servers call the contexts of their own keeping.
var ownContexts = map[string]bool{"config": true, "monitor": true, "schema": true, "changelog": true, "accesslog": true}

// errSeen ends a handshake whose certificates were seen.
var errSeen = errors.New("seen")

// Presented are the certificates that a server shows, its own first; none where nothing
// is encrypted. Nothing is said to it: the handshake is broken off, so that somebody
// can decide whether to trust what it showed.
func Presented(ctx context.Context, url string, startTLSToo bool) (chain []*x509.Certificate, err error) {
	u, err := parseURL(url)
	if err != nil || u.Scheme == "ldapi" || u.Scheme == "ldap" && !startTLSToo {
		return nil, err
	}
	raw, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), cmp.Or(u.Port(), map[string]string{"ldap": "389", "ldaps": "636"}[u.Scheme])))
	if err != nil {
		return nil, connectError(url, err)
	}
	defer raw.Close()
	if u.Scheme == "ldap" {
		if err := startTLS(ctx, raw); err != nil {
			return nil, fmt.Errorf("%s: StartTLS: %w", url, err)
		}
	}
	// That no chain is verified here is safe only since no handshake ends well.
	err = tls.Client(raw, &tls.Config{ServerName: u.Hostname(), MinVersion: tls.VersionTLS12, InsecureSkipVerify: true,
		VerifyConnection: func(state tls.ConnectionState) error {
			chain = state.PeerCertificates
			return errSeen
		}}).HandshakeContext(ctx)
	if len(chain) > 0 {
		return chain, nil
	}
	return nil, connectError(url, err)
}

// DomainServers asks DNS for the servers of a domain (RFC 2782), the preferred first:
// those that speak TLS from the beginning, else domain controllers, else any.
func DomainServers(ctx context.Context, lookup LookupSRV, domain string) (hosts []string) {
	for _, name := range [][2]string{{"ldaps", domain}, {"ldap", "dc._msdcs." + domain}, {"ldap", domain}} {
		_, records, err := lookup(ctx, name[0], "tcp", name[1])
		if err != nil {
			continue
		}
		for _, r := range records {
			hosts = append(hosts, strings.TrimSuffix(r.Target, "."))
		}
		if len(hosts) > 0 {
			return hosts
		}
	}
	return nil
}
