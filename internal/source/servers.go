package source

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// KnownServer is a server of a directory, and who says so.
type KnownServer struct {
	Host      string
	Site      string // on the `ad` schema
	Listed    bool   // by the directory's own configuration
	InDNS     bool   // by an SRV record (RFC 2782)
	URL       string // the yard's, "" where the settings do not name it
	Avoided   bool   // the settings say that it is not to be asked
	Connected bool   // it is the one that was read from
	Silent    error  // why it did not answer, nil where it did or was not asked
}

// LookupSRV asks DNS for the hosts that offer a service.
type LookupSRV func(ctx context.Context, service, proto, name string) (string, []*net.SRV, error)

// Servers finds the servers of the directory: in its configuration, in DNS
// where lookup is set, and in the settings. An error of DNS comes with what
// was found elsewhere.
func (s *Server) Servers(ctx context.Context, lookup LookupSRV) ([]KnownServer, error) {
	byHost := map[string]*KnownServer{}
	one := func(host string) *KnownServer {
		host = strings.ToLower(strings.TrimSuffix(host, "."))
		if byHost[host] == nil {
			byHost[host] = &KnownServer{Host: host}
		}
		return byHost[host]
	}
	if err := s.configured(ctx, one); err != nil {
		return nil, err
	}
	var dnsErr error
	if domain := DomainOf(s.Top()); lookup != nil && domain != "" {
		dnsErr = s.inDNS(ctx, lookup, domain, one)
	}
	if s.Root.HostName != "" {
		one(s.Root.HostName).Connected = true
		one(s.Root.HostName).URL = s.URL
	}
	for _, url := range s.target.Yard.Servers {
		if url == s.URL && s.Root.HostName != "" {
			continue
		}
		host, err := hostOf(url), error(nil)
		if url != s.URL && !avoided(s.target.Yard.Avoid, url) {
			host, err = s.askName(ctx, url)
		}
		k := one(host)
		k.URL, k.Silent, k.Connected = url, err, k.Connected || url == s.URL
	}
	var all []KnownServer
	for _, k := range byHost {
		k.Avoided = slices.ContainsFunc(s.target.Yard.Avoid, func(a string) bool {
			return strings.EqualFold(a, k.Host) || strings.EqualFold(hostOf(a), k.Host)
		})
		all = append(all, *k)
	}
	slices.SortFunc(all, func(a, b KnownServer) int { return strings.Compare(a.Host, b.Host) })
	return all, dnsErr
}

// askName asks another server what it calls itself.
func (s *Server) askName(ctx context.Context, url string) (string, error) {
	o := s.other(url)
	if err := o.dial(ctx); err != nil {
		return hostOf(url), err
	}
	defer o.Close()
	if o.Root.HostName == "" {
		return hostOf(url), nil
	}
	return o.Root.HostName, nil
}

// configured reads the domain controllers from the configuration partition:
// CN=NTDS Settings below a server below a site.
func (s *Server) configured(ctx context.Context, one func(string) *KnownServer) error {
	if s.Root.Config == "" {
		return nil
	}
	hosts, controllers := map[string]string{}, map[string]bool{}
	err := s.retry(ctx, func() error {
		_, err := s.Search(
			ctx,
			Query{
				Base:       "CN=Sites," + s.Root.Config,
				Scope:      ldap.ScopeWholeSubtree,
				Filter:     "(|(objectClass=nTDSDSA)(objectClass=server))",
				Attributes: []string{"objectClass", "dNSHostName"},
			},
			func(page []directory.Entry) error {
				for i := range page {
					if page[i].HasClass("nTDSDSA") {
						_, parent := directory.SplitDN(page[i].DN)
						controllers[directory.FoldDN(parent)] = true
					} else {
						hosts[page[i].DN] = page[i].First("dNSHostName")
					}
				}
				return nil
			},
		)
		return err
	})
	if err != nil && !errors.Is(err, ErrNotFound) {
		return err
	}
	for dn, host := range hosts {
		if host == "" || !controllers[directory.FoldDN(dn)] {
			continue
		}
		k := one(host)
		k.Listed = true
		_, servers := directory.SplitDN(dn)
		_, site := directory.SplitDN(servers)
		k.Site = directory.LeafValue(site)
	}
	return nil
}

func (s *Server) inDNS(ctx context.Context, lookup LookupSRV, domain string, one func(string) *KnownServer) error {
	name := domain
	if s.Dialect == directory.AD {
		name = "dc._msdcs." + domain
	}
	_, records, err := lookup(ctx, "ldap", "tcp", name)
	if err != nil {
		return fmt.Errorf("DNS has no answer for _ldap._tcp.%s: %w", name, err)
	}
	for _, r := range records {
		one(r.Target).InDNS = true
	}
	return nil
}

// DomainOf returns the DNS name that a naming context of DC levels stands
// for (RFC 2247), "" where it is made of others.
func DomainOf(base string) string {
	levels, err := directory.ParseDN(base)
	if err != nil {
		return ""
	}
	var labels []string
	for _, l := range levels {
		if len(l) != 1 || !strings.EqualFold(l[0].Type, "dc") {
			return ""
		}
		labels = append(labels, strings.ToLower(l[0].Value))
	}
	return strings.Join(labels, ".")
}
