package practice

import (
	"bufio"
	"cmp"
	"context"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
	"unicode/utf16"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/filter"
)

// Controls the server knows besides paging.
const (
	showDeletedOID  = "1.2.840.113556.1.4.417"
	showRecycledOID = "1.2.840.113556.1.4.2064"
	assertionOID    = "1.3.6.1.1.12"
)

// maxPage is the most entries one page holds, as on the real servers.
const maxPage = 1000

// maxValues is the most values of an attribute that one answer holds.
const maxValues = 1500

// Server answers LDAP version 3 (RFC 4511) for a Directory.
type Server struct {
	Dir *Directory
	// Password of the account that may read and write, by its name or DN.
	// Nobody else may bind.
	Account, Password string
	// Host is what the server calls itself; "" means a name of its own.
	Host string
	// Assertions lets writes carry the assertion control (RFC 4528), which
	// servers of the schema do not offer.
	Assertions bool

	// writing keeps writes apart from each other and from what somebody does
	// meanwhile, so that an assertion holds until its write.
	writing sync.Mutex

	mu    sync.Mutex
	fault func(op Operation) Fault
	count int
	conns map[net.Conn]bool
	ln    net.Listener
}

// Operation is one request. N counts all requests from 1. Name is bind,
// search, add, modify, modifyDN or delete.
type Operation struct {
	N    int
	Name string
	DN   string
}

// Fault is what goes wrong with an operation. The zero Fault is nothing.
type Fault struct {
	Code       uint16        // refuse with this result
	Stall      time.Duration // wait before doing anything
	DropBefore bool          // close the connection, nothing done
	DropAfter  bool          // do it, then close the connection without an answer
	CodeAfter  uint16        // do it, then answer this result
	Pretend    bool          // answer success, nothing done
	Earlier    *Directory    // let a search see this one, such as a copy of a moment ago
	Meanwhile  func()        // somebody else's work, just before
}

// Listen starts serving on a loopback port until ctx ends or Close is called
// and returns the URL.
func (s *Server) Listen(ctx context.Context, addr string) (string, error) {
	ln, err := (&net.ListenConfig{}).Listen(ctx, "tcp", addr)
	if err != nil {
		return "", err
	}
	s.ln, s.conns = ln, map[net.Conn]bool{}
	context.AfterFunc(ctx, s.Close)
	go s.accept()
	return "ldap://" + ln.Addr().String(), nil
}

// Close stops serving and closes every connection.
func (s *Server) Close() {
	s.ln.Close()
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.conns {
		c.Close()
	}
}

func (s *Server) accept() {
	for {
		c, err := s.ln.Accept()
		if err != nil {
			return
		}
		s.mu.Lock()
		s.conns[c] = true
		s.mu.Unlock()
		go func() {
			(&session{server: s, conn: c, dir: s.Dir, out: bufio.NewWriter(c), pages: map[string][]string{}}).serve()
			c.Close()
			s.mu.Lock()
			delete(s.conns, c)
			s.mu.Unlock()
		}()
	}
}

// session is one connection.
type session struct {
	server *Server
	conn   net.Conn
	out    *bufio.Writer
	bound  bool
	dir    *Directory          // that searches see
	pages  map[string][]string // cookie → what is still to be sent, as identities has it
	// namesOnly asks for the names of attributes without their values.
	namesOnly bool
	scratch   []byte // in which answers are put together
	serial    int
}

var errDrop = errors.New("connection dropped")

func (c *session) serve() {
	in := bufio.NewReader(c.conn)
	for {
		p, err := ber.ReadPacket(in)
		if err != nil || len(p.Children) < 2 {
			return
		}
		id, ok := p.Children[0].Value.(int64)
		if !ok || c.handle(id, p) != nil || c.out.Flush() != nil {
			return
		}
	}
}

// Application tags of the protocol's requests and responses.
const (
	tagBind = iota
	tagBindResponse
	tagUnbind
	tagSearch
	tagSearchEntry
	tagSearchDone
	tagModify
	tagModifyResponse
	tagAdd
	tagAddResponse
	tagDelete
	tagDeleteResponse
	tagModifyDN
	tagModifyDNResponse
	tagAbandon ber.Tag = 16
)

var opNames = map[ber.Tag]string{
	tagBind:     "bind",
	tagSearch:   "search",
	tagModify:   "modify",
	tagAdd:      "add",
	tagDelete:   "delete",
	tagModifyDN: "modifyDN",
}

func (c *session) handle(id int64, p *ber.Packet) error {
	op := p.Children[1]
	var controls []*ber.Packet
	if len(p.Children) > 2 {
		controls = p.Children[2].Children
	}
	name := opNames[op.Tag]
	if name == "" {
		switch op.Tag {
		case tagUnbind:
			return io.EOF
		case tagAbandon:
			return nil
		}
		return c.answer(id, 24,
			refuse(ldap.LDAPResultProtocolError, "operation %d is not offered", op.Tag)) // extended response
	}
	fault := c.server.faultFor(name, operationDN(op))
	time.Sleep(fault.Stall)
	if fault.Meanwhile != nil {
		c.server.writing.Lock()
		fault.Meanwhile()
		c.server.writing.Unlock()
	}
	if fault.DropBefore {
		return errDrop
	}
	response := op.Tag + 1
	if op.Tag == tagSearch {
		response = tagSearchDone
	}
	if fault.Code != 0 {
		return c.answer(id, response, refuse(fault.Code, "refused for practice"))
	}
	if fault.Pretend {
		return c.answer(id, response, nil)
	}
	out := c.out
	if fault.CodeAfter != 0 {
		c.out = bufio.NewWriter(io.Discard)
		err := c.perform(id, op, controls, response)
		if c.out = out; err != nil {
			return err
		}
		return c.answer(id, response, refuse(fault.CodeAfter, "done, for practice"))
	}
	if fault.Earlier != nil && op.Tag == tagSearch {
		now := c.dir
		c.dir = fault.Earlier
		defer func() { c.dir = now }()
	}
	if fault.DropAfter {
		c.out = bufio.NewWriter(io.Discard)
		defer func() { c.out = out }()
	}
	err := c.perform(id, op, controls, response)
	if fault.DropAfter {
		return errDrop
	}
	return err
}

func operationDN(op *ber.Packet) string {
	switch {
	case op.Tag == tagDelete:
		return text(op)
	case op.Tag == tagBind && len(op.Children) > 1:
		return text(op.Children[1])
	case len(op.Children) > 0:
		return text(op.Children[0])
	}
	return ""
}

// SetFault lets a function decide before each operation what shall go wrong
// with it; nil ends that.
func (s *Server) SetFault(decide func(op Operation) Fault) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.fault = decide
}

func (s *Server) faultFor(name, dn string) Fault {
	s.mu.Lock()
	s.count++
	op, decide := Operation{N: s.count, Name: name, DN: dn}, s.fault
	s.mu.Unlock()
	if decide == nil {
		return Fault{}
	}
	return decide(op)
}

func (c *session) perform(id int64, op *ber.Packet, controls []*ber.Packet, response ber.Tag) (err error) {
	known, err := c.controls(controls)
	switch {
	case err != nil:
		return c.answer(id, response, err)
	case op.Tag == tagBind:
		return c.answer(id, response, c.bind(op))
	case op.Tag == tagSearch:
		return c.search(id, op, known)
	case !c.bound:
		return c.answer(id, response, refuse(ldap.LDAPResultInsufficientAccessRights, "bind first"))
	}
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("malformed request: %v", r)
		}
	}()
	dir := c.server.Dir
	c.server.writing.Lock()
	defer c.server.writing.Unlock()
	if known.assertion != nil {
		holds, err := dir.holds(operationDN(op), *known.assertion)
		if err == nil && !holds {
			err = refuse(ldap.LDAPResultAssertionFailed, "the assertion does not hold")
		}
		if err != nil {
			return c.answer(id, response, err)
		}
	}
	switch op.Tag {
	case tagModify:
		var changes []ldap.Change
		for _, ch := range op.Children[1].Children {
			changes = append(changes, ldap.Change{Operation: uint(ch.Children[0].Value.(int64)),
				Modification: ldap.PartialAttribute{
					Type: text(ch.Children[1].Children[0]),
					Vals: texts(ch.Children[1].Children[1]),
				}})
		}
		err = dir.Modify(text(op.Children[0]), changes, known.showDeleted)
	case tagAdd:
		e := directory.Entry{DN: text(op.Children[0])}
		for _, a := range op.Children[1].Children {
			e.Set(text(a.Children[0]), texts(a.Children[1])...)
		}
		err = dir.Add(e)
	case tagDelete:
		err = dir.Delete(text(op))
	case tagModifyDN:
		var superior *string
		if len(op.Children) > 3 {
			s := text(op.Children[3])
			superior = &s
		}
		err = dir.ModifyDN(text(op.Children[0]), text(op.Children[1]), superior)
	}
	return c.answer(id, response, err)
}

// asked are the controls of a request.
type asked struct {
	showDeleted bool
	accessList  bool // the security descriptor may be asked for
	paging      *ldap.ControlPaging
	assertion   *filter.Filter
}

func (c *session) controls(packets []*ber.Packet) (a asked, err error) {
	for _, p := range packets {
		oid := ""
		if len(p.Children) > 0 {
			oid = text(p.Children[0])
		}
		switch oid {
		case showDeletedOID, showRecycledOID:
			a.showDeleted = true
		case ldap.ControlTypeMicrosoftSDFlags:
			a.accessList = true
		case ldap.ControlTypePaging:
			control, err := ldap.DecodeControl(p)
			if err != nil {
				return a, refuse(ldap.LDAPResultProtocolError, "%v", err)
			}
			a.paging, _ = control.(*ldap.ControlPaging)
		case assertionOID:
			if !c.server.Assertions {
				return a, refuse(ldap.LDAPResultUnavailableCriticalExtension, "control %s is unknown", oid)
			}
			packet, err := ber.DecodePacketErr([]byte(text(p.Children[len(p.Children)-1])))
			if err != nil {
				return a, refuse(ldap.LDAPResultProtocolError, "%v", err)
			}
			cond, err := filter.Decode(packet)
			if err != nil {
				return a, refuse(ldap.LDAPResultProtocolError, "%v", err)
			}
			a.assertion = &cond
		default:
			if len(p.Children) > 1 {
				if critical, ok := p.Children[1].Value.(bool); ok && critical {
					return a, refuse(ldap.LDAPResultUnavailableCriticalExtension, "control %s is unknown", oid)
				}
			}
		}
	}
	return a, nil
}

func (c *session) bind(op *ber.Packet) error {
	if len(op.Children) < 3 || op.Children[2].Tag != 0 {
		return refuse(ldap.LDAPResultAuthMethodNotSupported, "only simple binds")
	}
	name, password := text(op.Children[1]), text(op.Children[2])
	if name == "" && password == "" {
		c.bound = false
		return nil
	}
	logon, _, _ := strings.Cut(name, "@")
	if e := c.server.Dir.Entry(name); e != nil {
		logon = e.First("sAMAccountName")
	}
	if err, known := c.server.Dir.signIn(logon, password); known {
		c.bound = false
		return err
	}
	known := strings.EqualFold(logon, c.server.Account)
	c.bound = known && subtle.ConstantTimeCompare([]byte(password), []byte(c.server.Password)) == 1
	if !c.bound {
		return refuse(ldap.LDAPResultInvalidCredentials, "wrong name or password, data 52e")
	}
	return nil
}

// signIn lets somebody sign in whose password was set here, and who may do
// nothing then. It answers as servers of the schema do where the password is right
// and the account is not to be used. Known is false where none was set, or
// another one.
func (d *Directory) signIn(logon, password string) (err error, known bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	for _, key := range d.named(logon) {
		e := d.entries[key]
		set := d.passwords[e.First("objectGUID")]
		if set == "" || set != quoted(password) || !strings.EqualFold(e.First("sAMAccountName"), logon) {
			continue
		}
		flags, _ := directory.ParseFlags(e.First("userAccountControl"))
		switch {
		case flags&directory.UACDisabled != 0:
			return refuse(ldap.LDAPResultInvalidCredentials, "data 533"), true
		case e.First("pwdLastSet") == "0":
			return refuse(ldap.LDAPResultInvalidCredentials, "data 773"), true
		}
		return nil, true
	}
	return nil, false
}

// quoted is a password as unicodePwd takes it (MS-ADTS 3.1.1.3.1.5.1).
func quoted(password string) string {
	var b []byte
	for _, unit := range utf16.Encode([]rune(`"` + password + `"`)) {
		b = append(b, byte(unit), byte(unit>>8))
	}
	return string(b)
}

// question is a search, decoded.
type question struct {
	asked
	base  string
	scope int
	limit int
	cond  filter.Filter
	want  []string
}

// search answers a search (RFC 4511, section 4.5).
func (c *session) search(id int64, op *ber.Packet, a asked) error {
	done := func(err error) error { return c.answer(id, tagSearchDone, err) }
	q, err := c.question(op, a)
	if err != nil {
		return done(err)
	}
	want := wantedOf(q.want)
	give := func(entries ...directory.Entry) error {
		for i := range entries {
			if err := c.entry(id, &entries[i], want); err != nil {
				return err
			}
		}
		return done(nil)
	}
	if q.base == "" && q.scope == ldap.ScopeBaseObject {
		return give(*c.rootDSE())
	}
	if !c.bound {
		return done(refuse(ldap.LDAPResultOperationsError, "bind first"))
	}
	if e := c.dir.serviceEntry(q.base); e != nil {
		return give(*e)
	}
	if c.dir.dialect == directory.AD && strings.EqualFold(q.base, schemaParent+c.dir.base) {
		return give(schemaEntries(q.base, q.cond)...)
	}
	keys, err := c.found(q)
	if err != nil {
		return done(err)
	}
	page := q.page()
	send := keys[:min(page, len(keys))]
	for _, key := range send {
		if e := c.shown(key, q); e != nil {
			if err := c.entry(id, e, want); err != nil {
				return err
			}
		}
	}
	rest := keys[len(send):]
	switch {
	case q.paging != nil:
		return c.answer(id, tagSearchDone, nil, c.next(rest))
	case len(rest) > 0:
		return done(refuse(ldap.LDAPResultSizeLimitExceeded, "more than %d entries", page))
	}
	return done(nil)
}

// question decodes a search.
func (c *session) question(op *ber.Packet, a asked) (*question, error) {
	if len(op.Children) < 8 {
		return nil, refuse(ldap.LDAPResultProtocolError, "a search of %d parts", len(op.Children))
	}
	scope, _ := op.Children[1].Value.(int64)
	limit, _ := op.Children[3].Value.(int64)
	c.namesOnly, _ = op.Children[5].Value.(bool)
	cond, err := filter.Decode(op.Children[6])
	if err != nil {
		return nil, refuse(ldap.LDAPResultProtocolError, "%v", err)
	}
	return &question{asked: a, base: text(op.Children[0]), scope: int(scope), limit: int(limit), cond: cond,
		want: texts(op.Children[7])}, nil
}

// page is how many entries are given at once.
func (q *question) page() int {
	page := maxPage
	if q.paging != nil {
		page = min(page, max(int(q.paging.PagingSize), 1))
	}
	if q.limit > 0 {
		page = min(page, q.limit)
	}
	return page
}

// found are the keys of what is found, or of what is left of that.
func (c *session) found(q *question) ([]string, error) {
	if q.paging == nil || len(q.paging.Cookie) == 0 {
		return c.dir.find(q.base, q.scope, q.cond, q.showDeleted)
	}
	keys := c.dir.standing(c.pages[string(q.paging.Cookie)], q.showDeleted)
	delete(c.pages, string(q.paging.Cookie))
	return keys, nil
}

// next remembers what is left for further pages.
func (c *session) next(rest []string) *ldap.ControlPaging {
	answer := &ldap.ControlPaging{}
	if len(rest) > 0 {
		c.serial++
		answer.Cookie = []byte(strconv.Itoa(c.serial))
		c.pages[string(answer.Cookie)] = c.dir.identities(rest)
	}
	return answer
}

// shown is an entry with what is worked out for those who ask for it, nil for one that is
// gone.
func (c *session) shown(key string, q *question) *directory.Entry {
	e := c.dir.viewOf(key)
	if e == nil || c.dir.dialect != directory.AD {
		return e
	}
	for _, name := range []string{"allowedAttributes", "allowedAttributesEffective"} { // who may bind may write
		if slices.Contains(q.want, name) {
			e.Set(name, c.dir.attributeNames()...)
		}
	}
	if q.accessList {
		e.Set(descriptor, c.dir.descriptorOf(key))
	}
	if slices.Contains(q.want, "replPropertyMetaData") && !e.Has("replPropertyMetaData") && !e.Has("userAccountControl") {
		e.Set("replPropertyMetaData", c.dir.metadataOf(key))
	}
	return e
}

// personAttributes are what the schema allows every person.
var personAttributes = strings.Fields(
	`cn sn givenName initials displayName description title department division company o l st co c street
	streetAddress postalCode physicalDeliveryOfficeName roomNumber telephoneNumber mobile mail proxyAddresses userPrincipalName employeeID
	employeeNumber employeeType departmentNumber info homeDirectory profilePath scriptPath extensionAttribute1 extensionAttribute2
	accountExpires lockoutTime pwdLastSet userAccountControl`,
)

// attributeNames stands for the schema: what any entry carries, any may, and
// what persons usually have, and links.
func (d *Directory) attributeNames() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	names := map[string]bool{
		"member":         true,
		"memberOf":       true,
		"manager":        true,
		"directReports":  true,
		"managedBy":      true,
		"managedObjects": true,
	}
	for _, name := range personAttributes {
		names[name] = true
	}
	for name := range d.index.names {
		names[name] = true
	}
	return slices.Sorted(maps.Keys(names))
}

func (d *Directory) viewOf(key string) *directory.Entry {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.entries[key] == nil {
		return nil
	}
	e := d.shown(key, d.view(key)).Clone()
	return &e
}

func (d *Directory) descriptorOf(key string) string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.listOf(key)
}

// find returns the folded names of the entries that a search selects.
func (d *Directory) find(base string, scope int, cond filter.Filter, showDeleted bool) ([]string, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	from := d.key(base)
	d.wantNamed(from)
	if e := d.entries[from]; e == nil || e.Has("isDeleted") && !showDeleted {
		return nil, refuse(ldap.LDAPResultNoSuchObject, "no entry %s", base)
	}
	m, err := cond.For(d.dialect, nil)
	if err != nil {
		return nil, refuse(ldap.LDAPResultInappropriateMatching, "%v", err)
	}
	computed := len(m.Chains()) > 0 || slices.ContainsFunc(cond.Attributes(), func(name string) bool {
		return strings.EqualFold(name, "msDS-User-Account-Control-Computed") ||
			slices.ContainsFunc([]string{"memberOf", "directReports", "managedObjects"},
				func(b string) bool { return strings.EqualFold(name, b) })
	})
	d.wantFor(from, scope, cond, computed)
	for _, chain := range m.Chains() {
		for _, e := range d.entries {
			chain.Tell(chain.Links(e))
		}
		chain.Done()
	}
	var found []string
	keys, narrowed := d.index.narrow(&cond)
	if narrowed {
		keys = d.among(keys, from, scope)
	} else {
		keys = d.sorted(from, scope)
	}
	for _, key := range keys {
		if d.entries[key].Has("isDeleted") && !showDeleted || d.apart(key, from) {
			continue
		}
		e := d.entries[key]
		if computed {
			e = d.view(key)
		}
		if m.Match(d.shown(key, e)) == filter.True {
			found = append(found, key)
		}
	}
	return found, nil
}

// holds tells whether an entry fulfils a filter.
func (d *Directory) holds(dn string, cond filter.Filter) (bool, error) {
	d.mu.Lock()
	defer d.mu.Unlock()
	key := d.key(dn)
	d.wantNamed(key)
	if d.entries[key] == nil {
		return false, refuse(ldap.LDAPResultNoSuchObject, "no entry %s", dn)
	}
	m, err := cond.For(d.dialect, nil)
	if err != nil {
		return false, refuse(ldap.LDAPResultInappropriateMatching, "%v", err)
	}
	return m.Match(d.view(key)) == filter.True, nil
}

// apart tells whether an entry stands in the configuration partition, which
// a search from above does not enter.
func (d *Directory) apart(key, from string) bool {
	config := directory.FoldDN("CN=Configuration," + d.base)
	return directory.Under(key, config) && !directory.Under(from, config)
}

func (c *session) rootDSE() *directory.Entry {
	base := c.server.Dir.base
	e := &directory.Entry{}
	e.Set("objectClass", "top")
	e.Set("defaultNamingContext", base)
	e.Set("rootDomainNamingContext", base)
	e.Set("namingContexts", base)
	e.Set("supportedLDAPVersion", "3")
	controls := []string{ldap.ControlTypePaging, showDeletedOID, showRecycledOID}
	if c.server.Assertions {
		controls = append(controls, assertionOID)
	}
	e.Set("supportedControl", controls...)
	if c.server.Dir.dialect == directory.AD {
		e.Set("supportedCapabilities", "1.2.840.113556.1.4.800")
		e.Set("schemaNamingContext", schemaParent+base)
		e.Set("highestCommittedUSN", strconv.FormatUint(c.server.Dir.counted(), 10))
		e.Set("dsServiceName", c.server.Dir.service())
		if sid, err := directory.EncodeSID(everyone); err == nil {
			e.Set("tokenGroups", sid)
		}
	}
	e.Set(
		"dnsHostName",
		cmp.Or(c.server.Host,
			"practice."+strings.ToLower(strings.NewReplacer("DC=", "", "dc=", "", ",", ".").Replace(base))),
	)
	if config := "CN=Configuration," + base; c.server.Dir.Entry(config) != nil {
		e.Set("configurationNamingContext", config)
	}
	e.Set("currentTime", c.server.Dir.stamp())
	return e
}

// entry sends one entry with the attributes asked for. More than maxValues
// values of one come in ranges.
func (c *session) entry(id int64, e *directory.Entry, want *wanted) error {
	b, message := begin(c.scratch[:0], ber.TagSequence|constructed)
	b = append(b, ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, "").Bytes()...)
	b, entry := begin(b, tagSearchEntry|constructed|application)
	b = octets(b, e.DN)
	b, list := begin(b, ber.TagSequence|constructed)
	for _, a := range e.Attrs {
		name, values, ok := want.of(a)
		if !ok {
			continue
		}
		var attr, set int
		b, attr = begin(b, ber.TagSequence|constructed)
		b = octets(b, name)
		b, set = begin(b, ber.TagSet|constructed)
		for _, v := range values {
			if !c.namesOnly {
				b = octets(b, v)
			}
		}
		end(b, set)
		end(b, attr)
	}
	end(b, list)
	end(b, entry)
	end(b, message)
	c.scratch = b
	_, err := c.out.Write(b)
	return err
}

// Bits of a tag's octet.
const (
	constructed = 0x20
	application = 0x40
)

// begin writes a tag, and leaves four octets for the length of what follows, as servers of
// the `ad` schema do; end fills them in.
func begin(b []byte, tag ber.Tag) (_ []byte, at int) {
	b = append(b, byte(tag), 0x84, 0, 0, 0, 0)
	return b, len(b)
}

func end(b []byte, at int) { binary.BigEndian.PutUint32(b[at-4:], uint32(len(b)-at)) }

// octets writes a text.
func octets(b []byte, s string) []byte {
	if len(s) < 0x80 {
		b = append(b, byte(ber.TagOctetString), byte(len(s)))
		return append(b, s...)
	}
	b, at := begin(b, ber.TagOctetString)
	b = append(b, s...)
	end(b, at)
	return b
}

// wanted is which attributes a search asks for, and from which value on where it asks for
// a range of them (else -1), by their names in lower case.
type wanted struct {
	all  bool
	from map[string]int
}

func wantedOf(descriptions []string) *wanted {
	w := &wanted{all: len(descriptions) == 0, from: make(map[string]int, len(descriptions))}
	for _, d := range descriptions {
		w.all = w.all || d == "*" || d == "+"
		base, _, _ := strings.Cut(d, ";")
		from := -1
		if r, is := directory.RangeOf(d); is {
			low, _, _ := strings.Cut(r, "-")
			from, _ = strconv.Atoi(low)
		}
		base = strings.ToLower(base)
		if before, twice := w.from[base]; !twice || before < 0 {
			w.from[base] = from
		}
	}
	return w
}

// of is what is given of an attribute: of more values than one answer holds, a range.
func (w *wanted) of(a directory.Attribute) (name string, values []string, ok bool) {
	from, named := w.from[strings.ToLower(a.Name)]
	if !named && !w.all {
		return "", nil, false
	}
	ranged := named && from >= 0
	if len(a.Values) <= maxValues && !ranged {
		return a.Name, a.Values, true
	}
	from = min(max(from, 0), len(a.Values))
	rest := a.Values[from:]
	if len(rest) <= maxValues {
		return fmt.Sprintf("%s;range=%d-*", a.Name, from), rest, true
	}
	return fmt.Sprintf("%s;range=%d-%d", a.Name, from, from+maxValues-1), rest[:maxValues], true
}

func (c *session) answer(id int64, tag ber.Tag, result error, controls ...ldap.Control) error {
	code, message := uint16(ldap.LDAPResultSuccess), ""
	var refused *ldap.Error
	switch {
	case errors.As(result, &refused):
		code, message = refused.ResultCode, refused.Err.Error()
	case result != nil:
		code, message = ldap.LDAPResultOther, result.Error()
	}
	body := ber.Encode(ber.ClassApplication, ber.TypeConstructed, tag, nil, "")
	body.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagEnumerated, int64(code), ""))
	body.AppendChild(octet(""))
	body.AppendChild(octet(message))
	return c.send(id, body, controls...)
}

func (c *session) send(id int64, body *ber.Packet, controls ...ldap.Control) error {
	p := ber.NewSequence("")
	p.AppendChild(ber.NewInteger(ber.ClassUniversal, ber.TypePrimitive, ber.TagInteger, id, ""))
	p.AppendChild(body)
	if len(controls) > 0 {
		list := ber.Encode(ber.ClassContext, ber.TypeConstructed, 0, nil, "")
		for _, control := range controls {
			list.AppendChild(control.Encode())
		}
		p.AppendChild(list)
	}
	_, err := c.out.Write(p.Bytes())
	return err
}

func octet(s string) *ber.Packet {
	return ber.NewString(ber.ClassUniversal, ber.TypePrimitive, ber.TagOctetString, s, "")
}

func text(p *ber.Packet) string {
	if p.Data != nil && p.Data.Len() > 0 {
		return p.Data.String()
	}
	return string(p.ByteValue)
}

func texts(p *ber.Packet) []string {
	var all []string
	for _, c := range p.Children {
		all = append(all, text(c))
	}
	return all
}
