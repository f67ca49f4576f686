package source

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/url"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/trust"
)

// Target is how to reach one directory.
type Target struct {
	Yard settings.Yard
	// Ask asks a person for a password without echo. Nil where nobody can be
	// asked.
	Ask func(prompt string) (string, error)
	// Keep are attributes whose texts a survey keeps, besides those that
	// checks look at in any case.
	Keep directory.AttrSet
	// Now is the clock that surveys are dated by; nil means the system's.
	Now func() time.Time
	// Progress, if set, is told how far reading is.
	Progress Progress
}

// Progress is told how much of a step is done; a total of 0 is not known. Over
// as what is done says that the step is at its end.
type Progress func(step string, done, total int64)

// Over ends a step of a Progress.
const Over = -1

func (p Progress) tell(step string, done, total int64) {
	if p != nil {
		p(step, done, total)
	}
}

func (t *Target) now() time.Time {
	if t.Now == nil {
		return time.Now()
	}
	return t.Now()
}

// Server is a bound connection to one LDAP server.
type Server struct {
	URL     string
	Root    Root
	Base    string
	Dialect *directory.Dialect
	Bound   string // the name that was bound, "" for anonymous
	// Skipped counts servers of the yard that did not answer, with why.
	Skipped []error

	local    bool                             // the server is on this machine
	schema   map[string]*directory.Definition // the published schema by names and numbers in lower case; nil before it was read
	musts    map[string][]string              // what entries of a class must carry, by its names in lower case
	secrets  map[string]bool                  // what of it holds secrets
	unshown  bool                             // there is one, which is not shown to the bound account
	allowed  map[string][]string              // on the `ad` schema: what entries of a class may carry
	target   Target
	conn     *ldap.Conn
	wire     *wire
	secured  *tls.ConnectionState // nil without encryption
	password string               // kept to bind again after a lost connection
	unhook   func() bool
	reader   *directory.Reader // what the bound account may read, once somebody had to know
	token    []string          // the groups by which it may

	paging  atomic.Bool  // a search in pages goes on
	most    atomic.Int64 // entries that the server gives in a page, 0 where it has refused no page
	opening sync.Mutex
	side    *Server // another connection, once two such searches had to go on at once
}

// Root is what the server says of itself in its root DSE.
type Root struct {
	NamingContexts []string
	Default        string
	Config         string
	Schema         string // once somebody had to know
	HostName       string
	Controls       map[string]bool
	Time           time.Time // the server's clock, zero where it does not say
	Asked          time.Time // our clock at that moment
	ReadOnly       bool
	AD             bool
	Vendor         string
}

const (
	defaultTimeout  = 30 * time.Second
	defaultWithin   = 4 * time.Hour
	defaultSettle   = 5 * time.Second
	defaultPageSize = 1000
	// slimPageSize is the same of entries that take little memory, where a server begins anew
	// with each page, as slapd does. Those of the `ad` schema give no more than 1000, and 389
	// Directory Server, as it is set up, no more than 2000.
	slimPageSize = 5000
	leastPage    = 50
)

// Connect connects to the first server of the yard that answers, and binds.
func Connect(ctx context.Context, t Target) (*Server, error) {
	var skipped []error
	for _, u := range t.Yard.Servers {
		if avoided(t.Yard.Avoid, u) {
			continue
		}
		s := &Server{URL: u, target: t, allowed: map[string][]string{}}
		err := s.dial(ctx)
		if err == nil {
			slog.DebugContext(ctx, "connected",
				"server", s.URL, "host", s.Root.HostName, "dialect", s.Dialect.Name, "bound", s.Bound,
				"encrypted", s.secured != nil, "base", s.Base)
			s.Skipped = skipped
			return s, nil
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		skipped = append(skipped, err)
		var code *ldap.Error
		if errors.As(err, &code) && code.ResultCode == ldap.LDAPResultInvalidCredentials {
			break // the other servers would count it as one more wrong password
		}
	}
	if len(skipped) == 0 {
		return nil, errors.New("every server of the yard is one to avoid")
	}
	return nil, errors.Join(skipped...)
}

// avoided tells whether a server's host is in a list of hosts or URLs.
func avoided(avoid []string, text string) bool {
	u, err := parseURL(text)
	return err == nil && slices.ContainsFunc(avoid, func(a string) bool {
		return strings.EqualFold(a, u.Hostname()) || strings.EqualFold(a, u.Host) || strings.EqualFold(a, text)
	})
}

// dial makes the connection, binds and reads the root DSE.
func (s *Server) dial(ctx context.Context) error {
	u, err := parseURL(s.URL)
	if err != nil || u.Scheme != "ldap" && u.Scheme != "ldaps" && u.Scheme != "ldapi" {
		return fmt.Errorf("%q is not an ldap://, ldaps:// or ldapi:// URL", s.URL)
	}
	if p := u.Port(); p == "3268" || p == "3269" {
		return fmt.Errorf("%s is a global catalog, which holds only a part of each entry: use port 389 or 636", s.URL)
	}
	conn, err := s.open(ctx)
	if err != nil {
		return err
	}
	s.local = u.Scheme == "ldapi" || isLoopback(u.Hostname())
	s.conn = conn
	s.unhook = context.AfterFunc(ctx, func() { conn.Close() })
	if err := s.bind(ctx, u, s.secured != nil || u.Scheme == "ldapi"); err != nil {
		s.Close()
		return err
	}
	if err := s.readRoot(u); err != nil {
		s.Close()
		return err
	}
	return nil
}

// within is how long one search may take as a whole.
func (s *Server) within() time.Duration {
	if t := time.Duration(s.target.Yard.ReadWithin); t > 0 {
		return t
	}
	return defaultWithin
}

// open makes a connection that nobody is signed in to.
func (s *Server) open(ctx context.Context) (*ldap.Conn, error) {
	u, err := parseURL(s.URL)
	if err != nil {
		return nil, err
	}
	tlsConfig, err := s.tlsConfig(u.Hostname())
	if err != nil {
		return nil, err
	}
	raw, err := s.reach(ctx, u, tlsConfig)
	if err != nil {
		return nil, connectError(s.URL, err)
	}
	s.wire = newWire(raw)
	conn := ldap.NewConn(s.wire, s.secured != nil)
	conn.SetTimeout(s.patience())
	conn.Start()
	return conn, nil
}

// SettlesWithin is how long a write may take to show in what is read: behind an
// address that stands for several servers, a reading may come from another one.
func (s *Server) SettlesWithin() time.Duration {
	if t := time.Duration(s.target.Yard.SettleWithin); t > 0 {
		return t
	}
	return defaultSettle
}

// patience is how long an answer is waited for.
func (s *Server) patience() time.Duration {
	if t := time.Duration(s.target.Yard.Timeout); t > 0 {
		return t
	}
	return defaultTimeout
}

// reach makes the connection, encrypted where that is asked for.
func (s *Server) reach(ctx context.Context, u *url.URL, config *tls.Config) (net.Conn, error) {
	ctx, stop := context.WithTimeout(ctx, min(s.patience(), 10*time.Second))
	defer stop()
	var dialer net.Dialer
	if u.Scheme == "ldapi" {
		return dialer.DialContext(ctx, "unix", u.Path)
	}
	port := u.Port()
	if port == "" {
		port = map[string]string{"ldap": "389", "ldaps": "636"}[u.Scheme]
	}
	raw, err := dialer.DialContext(ctx, "tcp", net.JoinHostPort(u.Hostname(), port))
	if err != nil {
		return nil, err
	}
	s.secured = nil
	if u.Scheme == "ldap" && !s.target.Yard.StartTLS {
		return raw, nil
	}
	if u.Scheme == "ldap" {
		if err := startTLS(ctx, raw); err != nil {
			raw.Close()
			return nil, fmt.Errorf("StartTLS: %w", err)
		}
	}
	secure := tls.Client(raw, config)
	if err := secure.HandshakeContext(ctx); err != nil {
		raw.Close()
		return nil, err
	}
	state := secure.ConnectionState()
	s.secured = &state
	return secure, nil
}

// startTLS asks the server to begin encryption (RFC 4511, section 4.14).
func startTLS(ctx context.Context, raw net.Conn) error {
	if deadline, ok := ctx.Deadline(); ok {
		if err := raw.SetDeadline(deadline); err != nil {
			return err
		}
	}
	m := ber.NewSequence("LDAPMessage")
	m.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, 1, ""))
	op := ber.Encode(ber.ClassApplication, ber.TypeConstructed, ldap.ApplicationExtendedRequest, nil, "")
	op.AppendChild(ber.NewString(ber.ClassContext, ber.TypePrimitive, 0, "1.3.6.1.4.1.1466.20037", ""))
	m.AppendChild(op)
	if _, err := raw.Write(m.Bytes()); err != nil {
		return err
	}
	answer, err := ber.ReadPacket(raw)
	if err != nil {
		return err
	}
	if err := ldap.GetLDAPError(answer); err != nil {
		return err
	}
	return raw.SetDeadline(time.Time{})
}

// parseURL reads an LDAP URL (RFC 4516), and the usual form of a socket's:
// ldapi:// with the path behind it, its slashes escaped or not.
func parseURL(text string) (*url.URL, error) {
	socket, ok := strings.CutPrefix(text, "ldapi://")
	if !ok {
		return url.Parse(text)
	}
	path, err := url.PathUnescape(socket)
	return &url.URL{Scheme: "ldapi", Path: path}, err
}

func (s *Server) tlsConfig(host string) (*tls.Config, error) {
	roots, err := trust.Roots(s.target.Yard.CAFile)
	return &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12, RootCAs: roots}, err
}

// ErrUnknownAuthority is the error for a certificate that leads to nobody who is trusted.
var ErrUnknownAuthority = errors.New("its certificate is signed by nobody known here")

// connectError says in one line what stands in the way, and what to do.
func connectError(url string, err error) error {
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	switch {
	case errors.As(err, &unknown):
		return fmt.Errorf("%s: %w: give the authority's certificate with ca_file or --ca-file", url, ErrUnknownAuthority)
	case errors.As(err, &name):
		return fmt.Errorf("%s: its certificate is for another name (%v): use that name in the URL", url, name)
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return fmt.Errorf("%s: its certificate has expired, or the clock here is wrong", url)
	case isTimeout(err):
		return fmt.Errorf("%s: no answer in time: is the name right, and does a firewall stand between?", url)
	case hungUp(err):
		return lostError{fmt.Errorf("%s: the connection was closed before the server had answered: is it ldap:// or ldaps:// there?", url)}
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return fmt.Errorf("%s: cannot connect: %v", url, op.Err)
	}
	return fmt.Errorf("%s: %w", url, err)
}

// hungUp tells that the other side closed the connection, in whatever form that is said.
func hungUp(err error) bool {
	return errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, syscall.ECONNRESET) ||
		strings.Contains(err.Error(), "unable to read LDAP response packet") || strings.HasSuffix(err.Error(), "ldap: connection closed")
}

func isTimeout(err error) bool {
	var t net.Error
	return errors.As(err, &t) && t.Timeout()
}

func (s *Server) bind(ctx context.Context, u *url.URL, encrypted bool) error {
	b := s.target.Yard.Bind
	switch {
	case b.Kerberos:
		return s.bindKerberos(u.Hostname())
	case b.DN == "" && u.Scheme == "ldapi":
		// The socket itself says who we are, where the server maps that.
		if err := s.conn.ExternalBind(); err == nil {
			s.Bound = "the user of this process"
		}
		return nil
	case b.DN == "":
		return nil
	}
	if !encrypted && !isLoopback(u.Hostname()) {
		return fmt.Errorf("%s: a password would cross the network in clear: use ldaps://, or starttls", s.URL)
	}
	if s.password == "" {
		password, err := s.readPassword(ctx, b)
		if err != nil {
			return err
		}
		s.password = password
	}
	if s.password == "" {
		// RFC 4513, section 5.1.2: a name without a password would bind as
		// nobody and seem to succeed.
		return fmt.Errorf("the password for %s is empty", b.DN)
	}
	if err := s.conn.Bind(b.DN, s.password); err != nil {
		return s.bindError(b.DN, err)
	}
	s.Bound = b.DN
	return nil
}

func (s *Server) bindError(who string, err error) error {
	switch {
	case ldap.IsErrorWithCode(err, ldap.LDAPResultInvalidCredentials):
		return fmt.Errorf("%s refuses the name or the password of %s; nothing was tried twice: %w", s.URL, who, err)
	case ldap.IsErrorAnyOf(err, ldap.LDAPResultStrongAuthRequired, ldap.LDAPResultConfidentialityRequired):
		return fmt.Errorf("%s takes a password only over TLS: use ldaps://, or starttls", s.URL)
	}
	return connectError(s.URL, err)
}

func isLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

func (s *Server) readPassword(ctx context.Context, b settings.Bind) (string, error) {
	trust.Hide()
	if kept := (trust.Kept{File: b.PasswordFile, Env: b.PasswordEnv, Command: b.PasswordCommand}); !kept.Nowhere() {
		return kept.Read(ctx)
	}
	if s.target.Ask == nil {
		return "", fmt.Errorf(
			"the password for %s has to be asked for, and there is no terminal: use password_file, password_env or password_command",
			b.DN,
		)
	}
	return s.target.Ask("Password for " + b.DN + ": ")
}

// bindKerberos signs in with tickets that kinit has put into the credential
// cache.
func (s *Server) bindKerberos(host string) error {
	b := s.target.Yard.Bind
	cache := b.CredentialCache
	if cache == "" {
		cache = strings.TrimPrefix(os.Getenv("KRB5CCNAME"), "FILE:")
	}
	if cache == "" {
		cache = fmt.Sprintf("/tmp/krb5cc_%d", os.Getuid())
	}
	conf := os.Getenv("KRB5_CONFIG")
	if conf == "" {
		conf = "/etc/krb5.conf"
	}
	client, err := kerberosClient(cache, conf)
	if err != nil {
		return fmt.Errorf(
			"kerberos: %w: sign in with kinit first; only a cache in a file (KRB5CCNAME=FILE:…) can be used", err)
	}
	defer client.Close()
	service := b.Service
	if service == "" {
		service = "ldap/" + host
	}
	if err := s.conn.GSSAPIBind(client, service, ""); err != nil {
		if ldap.IsErrorWithCode(err, ldap.LDAPResultStrongAuthRequired) {
			return fmt.Errorf("%s wants Kerberos sign-ins encrypted: use ldaps://", s.URL)
		}
		if b.Service == "" && net.ParseIP(host) != nil {
			return fmt.Errorf(
				"%s: kerberos knows services by name: give the server's name instead of its address, or set service: ldap/NAME in the yard's bind: %w",
				s.URL,
				err,
			)
		}
		return fmt.Errorf("%s: kerberos as %s: %w", s.URL, service, err)
	}
	s.Bound = client.Credentials.UserName() + "@" + client.Credentials.Domain()
	return nil
}

// adCapability marks a server of the `ad` schema (MS-ADTS 3.1.1.3.4.3).
const adCapability = "1.2.840.113556.1.4.800"

// readOnlyCapability marks a read-only domain controller.
const readOnlyCapability = "1.2.840.113556.1.4.1920"

func (s *Server) readRoot(u *url.URL) error {
	asked := s.target.now()
	res, err := s.conn.Search(
		ldap.NewSearchRequest(
			"",
			ldap.ScopeBaseObject,
			ldap.NeverDerefAliases,
			0,
			0,
			false,
			"(objectClass=*)",
			[]string{
				"*",
				"+",
				"namingContexts",
				"supportedControl",
				"defaultNamingContext",
				"configurationNamingContext",
				"dnsHostName",
				"currentTime",
				"supportedCapabilities",
				"vendorName",
			},
			nil,
		),
	)
	if err != nil {
		return connectError(s.URL, err)
	}
	if len(res.Entries) != 1 {
		return fmt.Errorf("%s: this is no LDAP directory: it has no root DSE", s.URL)
	}
	e := convert(res.Entries[0])
	set := func(name string) map[string]bool {
		m := map[string]bool{}
		for _, v := range e.Get(name) {
			m[v] = true
		}
		return m
	}
	capabilities := set("supportedCapabilities")
	s.Root = Root{
		NamingContexts: e.Get("namingContexts"),
		Default:        e.First("defaultNamingContext"),
		Config:         e.First("configurationNamingContext"),
		HostName:       e.First("dnsHostName"),
		Controls:       set("supportedControl"),
		Asked:          asked,
		AD:             capabilities[adCapability],
		ReadOnly:       capabilities[readOnlyCapability],
		Vendor:         e.First("vendorName"),
	}
	if t, err := directory.ParseGeneralizedTime(e.First("currentTime")); err == nil {
		s.Root.Time = t
	}
	switch name := s.target.Yard.Dialect; {
	case name != "":
		if s.Dialect, err = directory.DialectNamed(name); err != nil {
			return err
		}
	case s.Root.AD:
		s.Dialect = directory.AD
	case strings.Contains(s.Root.Vendor, "389"):
		s.Dialect = directory.NS389
	default:
		s.Dialect = directory.OpenLDAP
	}
	return s.chooseBase(u)
}

func (s *Server) chooseBase(u *url.URL) error {
	fromURL, _, _ := strings.Cut(strings.TrimPrefix(u.Path, "/"), "?")
	switch {
	case s.target.Yard.Base != "":
		s.Base = s.target.Yard.Base
	case fromURL != "" && u.Scheme != "ldapi":
		s.Base = fromURL
	case s.Root.Default != "":
		s.Base = s.Root.Default
	case len(s.Root.NamingContexts) == 1:
		s.Base = s.Root.NamingContexts[0]
	case len(s.Root.NamingContexts) == 0:
		return fmt.Errorf("%s names no naming context to this account: give the base (base in the settings, or --base)",
			s.URL)
	default:
		return fmt.Errorf("%s holds several directories: give one of them as base: %s", s.URL,
			strings.Join(s.Root.NamingContexts, "; "))
	}
	return nil
}

// Close ends the connection.
func (s *Server) Close() error {
	if s.unhook != nil {
		s.unhook()
	}
	s.opening.Lock()
	defer s.opening.Unlock()
	if s.side != nil {
		s.side.Close()
		s.side = nil
	}
	return s.conn.Close()
}

// Conn is the connection itself, by which tests do what other people's programs
// do. The tool writes by the methods of write.go only.
func (s *Server) Conn() *ldap.Conn { return s.conn }

// Reconnect makes a new connection to the same server, after one was lost.
func (s *Server) Reconnect(ctx context.Context) error {
	host := s.HostName()
	s.Close()
	s.reader = nil // its groups may be others by now
	if err := s.dial(ctx); err != nil {
		return err
	}
	if now := s.HostName(); now != host {
		return fmt.Errorf("%s was %s and is %s now: name one server", s.URL, host, now)
	}
	return nil
}

// provesPassword are the errors with which servers of the `ad` schema refuse a
// right password, by the Windows error code in the text (MS-ERREF): it has
// expired, must be changed, or its account is disabled or has expired.
var provesPassword = []string{"data 532", "data 773", "data 533", "data 701"}

// SignsIn tries an account's password over a connection of its own and tells
// whether it is the right one. Known is false where the answer does not say, as for
// a locked account. It counts as a sign-in, or as one wrong password.
func (s *Server) SignsIn(ctx context.Context, e *directory.Entry, password string) (right, known bool, err error) {
	other := &Server{URL: s.URL, target: s.target}
	conn, err := other.open(ctx)
	if err != nil {
		return false, false, err
	}
	defer conn.Close()
	err = conn.Bind(e.DN, password)
	var answer *ldap.Error
	switch {
	case err == nil:
		return true, true, nil
	case !errors.As(err, &answer) || Lost(err):
		return false, false, err
	case answer.ResultCode != ldap.LDAPResultInvalidCredentials:
		return false, false, nil
	case s.Dialect == directory.AD:
		says := func(code string) bool { return strings.Contains(answer.Error(), code) }
		if slices.ContainsFunc(provesPassword, says) {
			return true, true, nil
		}
		return false, says("data 52e"), nil
	}
	return false, s.Dialect == directory.NS389 ||
		!e.Has("pwdAccountLockedTime"), nil // slapd says the same of a locked account
}

// Another makes one more connection to the same server, signed in alike.
func (s *Server) Another(ctx context.Context) (*Server, error) {
	more := &Server{URL: s.URL, target: s.target, allowed: map[string][]string{}, password: s.password}
	if err := more.dial(ctx); err != nil {
		return nil, err
	}
	if more.HostName() != s.HostName() {
		more.Close()
		return nil, fmt.Errorf("%s is %s for one connection and %s for the next: name one server", s.URL, s.HostName(),
			more.HostName())
	}
	return more, nil
}

// Where names the server.
func (s *Server) Where() string { return s.URL }

// lostError is an error of the connection itself, not a server's answer.
type lostError struct{ error }

func (e lostError) Unwrap() error { return e.error }

// Answered marks an error of an operation that no server answered as one of
// the connection, so that Lost knows it. The protocol package gives those
// in several forms.
func Answered(err error) error {
	var answer *ldap.Error
	if err == nil || errors.As(err, &answer) {
		return err
	}
	return lostError{err}
}

// Lost tells whether an error means that the connection is gone, so that
// the operation may or may not have been carried out.
func Lost(err error) bool {
	var lost lostError
	var answer *ldap.Error
	switch {
	case errors.As(err, &lost):
		return true
	case errors.As(err, &answer):
		return answer.ResultCode == ldap.ErrorNetwork || answer.ResultCode == ldap.LDAPResultUnavailable ||
			answer.ResultCode == ldap.LDAPResultBusy
	}
	return false
}
