package source

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"unicode/utf16"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// This file is the only way by which anything is written to a directory.

// Entry is the entry that a write is meant for.
type Entry struct {
	DN string
	// ID is its raw identity. Where the schema can address an entry by that, no
	// other entry that has taken its name meanwhile is ever hit.
	ID string
}

func (e Entry) address(d *directory.Dialect) string {
	if d == directory.AD && e.ID != "" {
		if guid, err := directory.FormatGUID(e.ID); err == nil {
			return "<GUID=" + guid + ">"
		}
	}
	return e.DN
}

// Change takes values out of an attribute and puts others in, in one write: the
// server refuses where one of Delete is no longer there, or one of Add is
// there already.
type Change struct {
	Attr        string
	Delete, Add []string
}

// Replacement sets an attribute to values, whatever it was.
type Replacement struct {
	Attr   string
	Values []string
}

// Guarded writes carry a filter that the entry must fulfil (RFC 4528), "" for
// none. Servers that do not offer the control are not sent it.
func (s *Server) guard(assertion string) ([]ldap.Control, error) {
	if assertion == "" || !s.Root.Controls[AssertionOID] {
		return nil, nil
	}
	packet, err := ldap.CompileFilter(assertion)
	if err != nil {
		return nil, err
	}
	return []ldap.Control{ldap.NewControlString(AssertionOID, true, string(packet.Bytes()))}, nil
}

// Modify changes attributes of an entry.
func (s *Server) Modify(e Entry, changes []Change, assertion string) error {
	controls, err := s.guard(assertion)
	if err != nil {
		return err
	}
	req := ldap.NewModifyRequest(e.address(s.Dialect), controls)
	addChanges(req, changes)
	return refusal(s.conn.Modify(req))
}

func addChanges(req *ldap.ModifyRequest, changes []Change) {
	for _, c := range changes {
		if len(c.Delete) > 0 {
			req.Delete(c.Attr, c.Delete)
		}
		if len(c.Add) > 0 {
			req.Add(c.Attr, c.Add)
		}
	}
}

// Permit changes attributes of an entry as Modify does, and in the same write replaces
// its access list by the one of a security descriptor; its owner, its groups and what
// is audited of it stay (MS-ADTS 3.1.1.5.3.2). Only the `ad` schema has that.
func (s *Server) Permit(e Entry, changes []Change, descriptor string) error {
	req := ldap.NewModifyRequest(e.address(s.Dialect), []ldap.Control{listOnly()})
	addChanges(req, changes)
	req.Replace(directory.AttrSecurityDescriptor, []string{descriptor})
	return refusal(s.conn.Modify(req))
}

// Rename gives an entry another name, another place, or both.
func (s *Server) Rename(e Entry, rdn, superior, assertion string) error {
	controls, err := s.guard(assertion)
	if err != nil {
		return err
	}
	return refusal(
		s.conn.ModifyDN(ldap.NewModifyDNWithControlsRequest(e.address(s.Dialect), rdn, true, superior, controls)))
}

// Delete deletes an entry that nothing stands below.
func (s *Server) Delete(e Entry, assertion string) error {
	controls, err := s.guard(assertion)
	if err != nil {
		return err
	}
	return refusal(s.conn.Del(ldap.NewDelRequest(e.address(s.Dialect), controls)))
}

// Add makes a new entry.
func (s *Server) Add(dn string, attributes []directory.Attribute) error {
	req := ldap.NewAddRequest(dn, nil)
	for _, a := range attributes {
		req.Attribute(a.Name, a.Values)
	}
	return refusal(s.conn.Add(req))
}

// Reanimate brings a deleted object of the `ad` schema back under a name, with
// attributes set in the same write (MS-ADTS 3.1.1.5.3.7).
//
// Samba, where deleted objects are kept whole, takes a mark away in that write
// which it has not set, and puts in what is there; with marked it is set
// beforehand, by the same write.
func (s *Server) Reanimate(object, dn string, set []Replacement, marked bool) error {
	req := ldap.NewModifyRequest(object, []ldap.Control{ldap.NewControlString(ShowDeletedOID, true, "")})
	req.Delete("isDeleted", nil)
	if marked {
		req.Replace("isRecycled", []string{"TRUE"})
	}
	req.Replace("distinguishedName", []string{dn})
	for _, r := range set {
		req.Replace(r.Attr, r.Values)
	}
	return refusal(s.conn.Modify(req))
}

// SetPassword sets a password: on the `ad` schema as unicodePwd, a quoted text
// in UTF-16 (MS-ADTS 3.1.1.3.1.5.1), with attributes set in the same write;
// elsewhere by the operation of RFC 3062, which sets nothing else.
func (s *Server) SetPassword(e Entry, password string, set []Replacement) error {
	if s.Dialect != directory.AD {
		_, err := s.conn.PasswordModify(ldap.NewPasswordModifyRequest(e.DN, "", password))
		return refusal(err)
	}
	var quoted []byte
	for _, unit := range utf16.Encode([]rune(`"` + password + `"`)) {
		quoted = append(quoted, byte(unit), byte(unit>>8))
	}
	req := ldap.NewModifyRequest(e.address(s.Dialect), nil)
	req.Replace("unicodePwd", []string{string(quoted)})
	for _, r := range set {
		req.Replace(r.Attr, r.Values)
	}
	return refusal(s.conn.Modify(req))
}

// TakesWrites tells whether a server carries writes out, or why not: a replica
// sends them elsewhere or refuses them. Servers of the `ad` schema say so
// themselves; others are asked for what can never be done, to take a value out that
// is not there, so nothing is written. A refusal for want of rights does not tell,
// and is taken for a yes.
func (s *Server) TakesWrites(ctx context.Context) (no string, err error) {
	if s.Dialect == directory.AD {
		if s.Root.ReadOnly {
			no = "it is a read-only domain controller"
		}
		return no, nil
	}
	err = s.retry(ctx, func() error {
		no, err = s.refusesWrites()
		return err
	})
	return no, err
}

func (s *Server) refusesWrites() (no string, err error) {
	req := ldap.NewModifyRequest(s.Top(), nil)
	req.Delete("description", []string{"yardbroom asks whether this server takes writes " + rand.Text()})
	err = refusal(s.conn.Modify(req))
	switch {
	case RefusedFor(err, Elsewhere):
		no = "it sends writes to another server"
		var answer *ldap.Error
		if errors.As(err, &answer) {
			if urls := referrals(answer.Packet); len(urls) > 0 {
				no += ", " + strings.Join(urls, " or ")
			}
		}
		return no, nil
	case RefusedFor(err, Unsupported):
		return "it " + strings.TrimPrefix(err.Error(), "the server "), nil
	case Lost(err):
		return "", err
	}
	return "", nil
}

// referrals are the URLs of a result that names other servers (RFC 4511, section
// 4.1.10).
func referrals(message *ber.Packet) (urls []string) {
	const referral ber.Tag = 3
	if message == nil || len(message.Children) < 2 {
		return nil
	}
	for _, part := range message.Children[1].Children {
		if part.ClassType != ber.ClassContext || part.Tag != referral {
			continue
		}
		for _, u := range part.Children {
			urls = append(urls, directory.OneLine(ber.DecodeString(u.Data.Bytes())))
		}
	}
	return urls
}

// Reason is why a server did not carry a write out, as far as anybody decides
// on it.
type Reason int

// The reasons.
const (
	Other       Reason = iota
	Drifted            // a value was not what it was to be
	Denied             // the bound account may not do this
	Taken              // an entry of the name exists
	NotEmpty           // entries stand below it
	Missing            // there is no such entry
	Needed             // the entry's class must have what was taken away
	Unsupported        // the server will not, or cannot, do this
	SignedOut          // the bound account's password is no longer taken
	Elsewhere          // another server takes writes
	Unfit              // what was to be written breaks the schema, a policy or the form of a name
)

// Refused is the error of a write that a server has answered with a refusal.
// Lost tells those apart of which nobody knows what became.
type Refused struct {
	Why  Reason
	text string
	err  error
}

func (e *Refused) Error() string { return e.text }
func (e *Refused) Unwrap() error { return e.err }

// RefusedFor tells whether a write was refused for one of some reasons.
func RefusedFor(err error, reasons ...Reason) bool {
	var refused *Refused
	if !errors.As(err, &refused) || Lost(err) {
		return false
	}
	for _, r := range reasons {
		if refused.Why == r {
			return true
		}
	}
	return false
}

var reasons = map[uint16]Reason{
	ldap.LDAPResultNoSuchAttribute: Drifted, ldap.LDAPResultAssertionFailed: Drifted, ldap.LDAPResultAttributeOrValueExists: Drifted,
	ldap.LDAPResultInsufficientAccessRights: Denied, ldap.LDAPResultEntryAlreadyExists: Taken,
	ldap.LDAPResultNotAllowedOnNonLeaf: NotEmpty, ldap.LDAPResultNoSuchObject: Missing, ldap.LDAPResultObjectClassViolation: Needed,
	ldap.LDAPResultUnwillingToPerform: Unsupported, ldap.LDAPResultOperationsError: Unsupported,
	ldap.LDAPResultInvalidCredentials: SignedOut, ldap.LDAPResultReferral: Elsewhere,
	ldap.LDAPResultUndefinedAttributeType: Unfit, ldap.LDAPResultConstraintViolation: Unfit, ldap.LDAPResultInvalidAttributeSyntax: Unfit, ldap.LDAPResultInvalidDNSyntax: Unfit,
	ldap.LDAPResultNamingViolation: Unfit, ldap.LDAPResultNotAllowedOnRDN: Unfit, ldap.LDAPResultObjectClassModsProhibited: Unfit,
}

// inWords are results that the protocol's own words do not explain.
var inWords = map[uint16]string{
	ldap.LDAPResultNoSuchAttribute:          "a value that was to be taken out is not there",
	ldap.LDAPResultAttributeOrValueExists:   "a value that was to be put in is there",
	ldap.LDAPResultAssertionFailed:          "the entry is not as it was read (assertion failed)",
	ldap.LDAPResultInsufficientAccessRights: "the bound account may not do this",
	ldap.LDAPResultEntryAlreadyExists:       "an entry of that name exists",
	ldap.LDAPResultNotAllowedOnNonLeaf:      "there are entries below it",
	ldap.LDAPResultReferral:                 "it sends writes to another server (referral)",
}

// refusal turns the protocol package's errors of a write into those of this
// package. A server's own words are one line, without anything that a terminal
// would act on.
func refusal(err error) error {
	var answer *ldap.Error
	switch {
	case err == nil:
		return nil
	case !errors.As(err, &answer):
		return Answered(err)
	case Lost(err):
		return err
	}
	why := reasons[answer.ResultCode]
	what := cmp.Or(inWords[answer.ResultCode], ldap.LDAPResultCodeMap[answer.ResultCode])
	text := "the server refused: " + what
	if answer.Err != nil {
		if said := strings.Join(strings.Fields(directory.OneLine(answer.Err.Error())), " "); said != "" {
			text = fmt.Sprintf("%s (%s)", text, said)
		}
	}
	return &Refused{why, text, err}
}
