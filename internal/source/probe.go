package source

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// Probe is what a test of a connection found out.
type Probe struct {
	Encrypted, Loopback bool
	Encryption          string
	Identity            Identity
	Paging              bool
	Rights              []Right
	// Clock is how far the server's clock is ahead of ours, within Margin.
	Clock, Margin time.Duration
	ClockKnown    bool
}

// Right is one thing that the bound account can or cannot do.
type Right struct {
	OK         bool
	What, Text string
}

// clockTolerance is the difference of clocks above which judging by days may
// go wrong, and Kerberos does.
const clockTolerance = 5 * time.Minute

// ClockOK tells whether the clocks agree well enough.
func (p *Probe) ClockOK() bool { return !p.ClockKnown || p.Clock.Abs() <= clockTolerance }

// ClockText says how the clocks compare.
func (p *Probe) ClockText() string {
	switch {
	case !p.ClockKnown:
		return "the server does not tell its time"
	case p.Clock.Abs() <= p.Margin:
		return "the same as here"
	case p.Clock > 0:
		return fmt.Sprintf("the server is %s ahead of here", p.Clock.Round(time.Second))
	}
	return fmt.Sprintf("the server is %s behind here", (-p.Clock).Round(time.Second))
}

// CertificateEnds is when the first of the certificates ends that the server showed and
// that lead to one that is trusted; zero without encryption.
func (s *Server) CertificateEnds() (first time.Time) {
	if s.secured == nil {
		return first
	}
	for _, c := range s.secured.PeerCertificates {
		if first.IsZero() || c.NotAfter.Before(first) {
			first = c.NotAfter
		}
	}
	return first
}

// Probe finds out what the bound account can read here. It writes nothing.
func (s *Server) Probe(ctx context.Context) (*Probe, error) {
	u, err := parseURL(s.URL)
	if err != nil {
		return nil, err
	}
	p := &Probe{
		Paging:   s.Root.Controls[ldap.ControlTypePaging],
		Loopback: u.Scheme == "ldapi" || isLoopback(u.Hostname()),
	}
	p.Encryption = "none"
	if s.secured != nil {
		p.Encrypted, p.Encryption = true, tls.VersionName(s.secured.Version)+", certificate verified"
	} else if p.Loopback {
		p.Encryption = "none, within this machine"
	}
	if p.Identity, err = s.Identity(ctx); err != nil {
		return nil, err
	}
	if !s.Root.Time.IsZero() {
		p.ClockKnown, p.Margin = true, 2*time.Second
		p.Clock = s.Root.Time.Sub(s.Root.Asked)
	}
	around, err := s.Around(ctx, &directory.Entry{DN: s.Base})
	if err != nil {
		return nil, err
	}
	for _, of := range []struct {
		what string
		ids  []directory.AttrID
	}{{"Reads sign-ins", s.Dialect.LastLogon}, {"Reads lockouts", s.Dialect.Locked}, {"Reads disabled", s.Dialect.Enabled}} {
		r, err := s.readRight(ctx, around, of.what, of.ids)
		if err != nil {
			return nil, err
		}
		p.Rights = append(p.Rights, r)
	}
	if s.Dialect == directory.AD {
		p.Rights = append(p.Rights, s.deletedRight(ctx), s.recycleBin(ctx))
	} else {
		guarded := Right{OK: true, What: "Guarded writes", Text: "the assertion control is offered"}
		if !s.Root.Controls[AssertionOID] {
			guarded.Text = "the assertion control is not offered: a value is rewritten to itself before a move or a delete"
		}
		p.Rights = append(p.Rights, guarded)
	}
	return p, nil
}

func says(ok bool, yes, no string) string {
	if ok {
		return yes
	}
	return no
}

// readRight tells whether any account shows one of some attributes.
func (s *Server) readRight(
	ctx context.Context, around *directory.Survey, what string, ids []directory.AttrID,
) (Right, error) {
	r := Right{What: what}
	var names []string
	for _, id := range ids {
		names = append(names, id.String())
		r.OK = r.OK || around.Shows(directory.KindUser, id)
	}
	for _, name := range names {
		if r.OK {
			break
		}
		// Those that were looked at need not be those that have it.
		_, err := s.Search(
			ctx,
			Query{
				Base:       s.Base,
				Scope:      ldap.ScopeWholeSubtree,
				Filter:     "(" + name + "=*)",
				Attributes: []string{s.Dialect.Identity.String()},
				FirstPage:  true,
			},
			func(page []directory.Entry) error { r.OK = r.OK || len(page) > 0; return nil },
		)
		if err != nil && !hidden(err) {
			return r, err
		}
	}
	list := strings.Join(names, ", ")
	r.Text = says(r.OK, list+" can be read",
		"no user shows "+list+": none has it, the server does not record it, or this account may not read it")
	return r, nil
}

func (s *Server) deletedRight(ctx context.Context) Right {
	r := Right{What: "Reads deleted"}
	n := 0
	_, err := s.Search(
		ctx,
		Query{
			Base:        "CN=Deleted Objects," + s.Base,
			Scope:       ldap.ScopeWholeSubtree,
			Attributes:  []string{"1.1"},
			ShowDeleted: true,
		},
		func(page []directory.Entry) error { n += len(page); return nil },
	)
	switch {
	case err == nil:
		if r.OK, r.Text = true, "deleted objects: none that this account may see"; n > 1 {
			r.Text = fmt.Sprintf("deleted objects: %d that this account may see", n-1)
		}
	case errors.Is(err, ErrNotFound):
		r.Text = "deleted objects are not shown to this account: a restore would need another one"
	default:
		r.Text = "deleted objects cannot be read: " + err.Error()
	}
	return r
}

// recycleBinFeature is the GUID of the optional feature (MS-ADTS 3.1.1.9.1).
const recycleBinFeature = "766ddcd8-acd0-445e-f3b9-a7f9b6744f2a"

func (s *Server) recycleBin(ctx context.Context) Right {
	r := Right{OK: true, What: "Recycle bin"}
	if s.Root.Config == "" {
		r.Text = "not known: the server names no configuration partition"
		return r
	}
	guid, err := directory.ParseGUID(recycleBinFeature)
	if err != nil {
		return r
	}
	on := false
	_, err = s.Search(
		ctx,
		Query{
			Base:       s.Root.Config,
			Scope:      ldap.ScopeWholeSubtree,
			Filter:     "(&(objectClass=msDS-OptionalFeature)(msDS-OptionalFeatureGUID=" + EscapeOctets(guid) + "))",
			Attributes: []string{"msDS-EnabledFeatureBL"},
		},
		func(page []directory.Entry) error {
			for i := range page {
				on = on || page[i].Has("msDS-EnabledFeatureBL")
			}
			return nil
		},
	)
	switch {
	case err != nil:
		r.Text = "not known: " + err.Error()
	case on:
		r.Text = "on: deleted entries are kept whole"
	default:
		r.Text = "off: of deleted entries what identifies them is kept; the rest comes back from the journal"
	}
	return r
}
