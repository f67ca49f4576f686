package source

import (
	"context"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"log/slog"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
	"yardbroom/internal/kept"
)

// What a server says of its changes by content synchronisation (RFC 4533): with a cookie,
// by which it knows what it has said before. The entries themselves are read as always,
// so only their identities are taken from here.

// synced is what a server says of a content.
type synced struct {
	cookie []byte
	// changed are identities of entries that are new, or not as they were; gone those that
	// are there no longer, where the server says so.
	changed map[string]string // with the name
	gone    map[string]bool
	// present are the identities, by hash, of all that is as it was. Where presents is
	// true, what is neither changed nor among them is gone.
	present  map[uint64]string
	presents bool
}

// tagIntermediate is the tag of an IntermediateResponse (RFC 4511, section 4.13).
const tagIntermediate = 0x79

// syncs tells whether the server offers content synchronisation.
func (s *Server) syncs() bool {
	return s.Dialect != directory.AD && s.Root.Controls[ldap.ControlTypeSyncRequest]
}

// refresh asks for what has changed since a cookie; without one, only for the cookie of this
// moment.
func (s *Server) refresh(ctx context.Context, cookie []byte) (*synced, error) {
	control := ldap.NewControlSyncRequest(ldap.SyncRequestModeRefreshOnly, cookie, false)
	control.Criticality = true
	req := ldap.NewSearchRequest(s.Base, ldap.ScopeWholeSubtree, ldap.NeverDerefAliases, 0, 0, false,
		s.everything("(objectClass=*)"), []string{"1.1"}, []ldap.Control{control})
	out := &synced{cookie: cookie, changed: map[string]string{}, gone: map[string]bool{}, present: map[uint64]string{}}
	ctx, stop := context.WithTimeoutCause(ctx, s.within(),
		fmt.Errorf("%s did not give everything within %s (read_within of the yard)", s.URL, s.within()))
	defer stop()
	last, err := s.wire.exchange(ctx, req, s.patience(), func(m *message) error {
		switch {
		case m.op == tagIntermediate:
			return out.info(s.Dialect, m.body)
		case m.op == tagEntry && len(cookie) > 0:
			return out.entry(s.Dialect, m)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return out, out.done(last)
}

// entry takes the state of an entry, which stands in a control.
func (y *synced) entry(d *directory.Dialect, m *message) error {
	packet, err := ber.DecodePacketErr(m.all)
	if err != nil {
		return lostError{err}
	}
	e, ok := new(entryReader).read(m.body)
	state, err := controlIn[*ldap.ControlSyncState](packet)
	if err != nil || !ok || state == nil {
		return errors.Join(errNoState, err)
	}
	id := identityOfUUID(d, state.EntryUUID)
	switch state.State {
	case ldap.SyncStatePresent:
		y.present[kept.Hash(id)] = id
	case ldap.SyncStateDelete:
		y.gone[id] = true
	default:
		y.changed[id] = e.DN
	}
	return nil
}

var errNoState = errors.New("the server gives an entry without its state (RFC 4533)")

// info takes a Sync Info Message (RFC 4533, section 2.5). It is sliced as entries are:
// one may hold the identities of thousands.
func (y *synced) info(d *directory.Dialect, body []byte) error {
	const (
		responseValue  = 0x81
		refreshPresent = 0xa2
		syncIDSet      = 0xa3
	)
	for len(body) > 0 {
		tag, content, rest, ok := element(body)
		if !ok {
			return errNotLDAP
		}
		body = rest
		if tag != responseValue {
			continue
		}
		switch tag, value, _, ok := element(content); {
		case !ok:
			return errNotLDAP
		case tag == refreshPresent:
			y.presents = true
		case tag == syncIDSet:
			if err := y.idSet(d, value); err != nil {
				return err
			}
		}
	}
	return nil
}

// idSet takes a set of identities, of entries that are there or are not.
func (y *synced) idSet(d *directory.Dialect, value []byte) error {
	const (
		boolean = 0x01
		octets  = 0x04
		set     = 0x31
	)
	deletes := false
	for len(value) > 0 {
		tag, part, rest, ok := element(value)
		if !ok {
			return errNotLDAP
		}
		value = rest
		switch tag {
		case boolean:
			deletes = len(part) == 1 && part[0] != 0
		case set:
			for len(part) > 0 {
				tag, raw, rest, ok := element(part)
				if !ok || tag != octets || len(raw) != 16 {
					return errNotLDAP
				}
				part = rest
				if id := identityOfUUID(d, [16]byte(raw)); deletes {
					y.gone[id] = true
				} else {
					y.present[kept.Hash(id)] = id
				}
			}
		}
	}
	return nil
}

// done takes what the last message says.
func (y *synced) done(last *message) error {
	packet, err := ber.DecodePacketErr(last.all)
	if err != nil {
		return lostError{err}
	}
	if err := ldap.GetLDAPError(packet); err != nil {
		return err
	}
	end, err := controlIn[*ldap.ControlSyncDone](packet)
	if err != nil {
		return err
	}
	if end == nil {
		return errNoCookie
	}
	if len(end.Cookie) > 0 { // where nothing has changed, there may be none
		y.cookie = end.Cookie
	}
	if len(y.cookie) == 0 {
		return errNoCookie
	}
	y.presents = y.presents || !end.RefreshDeletes
	return nil
}

var errNoCookie = errors.New("the server gives no cookie (RFC 4533)")

// identityOfUUID is the identity of an entry as its own attribute has it: entryUUID as RFC
// 4530 writes it, nsUniqueId in four groups of eight.
func identityOfUUID(d *directory.Dialect, u [16]byte) string {
	h := hex.EncodeToString(u[:])
	if d != directory.NS389 {
		return h[:8] + "-" + h[8:12] + "-" + h[12:16] + "-" + h[16:20] + "-" + h[20:]
	}
	return h[:8] + "-" + h[8:16] + "-" + h[16:24] + "-" + h[24:]
}

// cookieNow asks for the cookie of this moment. Where the server gives none after all, the
// mark is one of time.
func (s *Server) cookieNow(ctx context.Context, m *Mark) error {
	y, err := s.refresh(ctx, nil)
	if err != nil {
		if Lost(err) || ctx.Err() != nil {
			return err
		}
		slog.DebugContext(ctx, "no cookie", "server", s.URL, "error", err)
		m.How = ByTime
		return nil
	}
	m.At = base64.StdEncoding.EncodeToString(y.cookie)
	return nil
}
