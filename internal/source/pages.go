package source

import (
	"context"
	"fmt"
	"slices"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// mostBarren is how many pages in a row may bring nothing.
const mostBarren = 100

// pages are the pages of one search (RFC 2696). While one is looked at, the server looks
// for the next.
type pages struct {
	server  *Server
	query   *Query
	req     *ldap.SearchRequest
	paging  *ldap.ControlPaging // of the request
	smaller bool                // than the first one that was asked for, which was refused
	barren  int                 // how many have brought nothing since one did
	next    chan page           // nil when there is none
}

// begin asks for the first page of a query, of so many entries.
func (p *pages) begin(ctx context.Context, q *Query, size int) (err error) {
	p.query = q
	if p.req, p.paging, err = q.request(size); err == nil {
		p.ask(ctx)
	}
	return err
}

// refused tells of the first page that the server may give one that is smaller: slapd
// refuses what it may not give at once, and 389 Directory Server holds a limit of sizes
// against each page. Other limits have the same codes.
func (p *pages) refused(got *page) bool {
	return ldap.IsErrorAnyOf(got.err, ldap.LDAPResultAdminLimitExceeded, ldap.LDAPResultSizeLimitExceeded) &&
		len(p.paging.Cookie) == 0 && slices.Contains(p.req.Controls, ldap.Control(p.paging)) && p.paging.PagingSize >= 2*leastPage
}

// page is one of them, or why it did not come.
type page struct {
	entries []directory.Entry
	result
	err error
}

// ask asks for the next page, and does not wait for it.
func (p *pages) ask(ctx context.Context) {
	next := make(chan page, 1)
	go func() {
		var got page
		got.entries, got.result, got.err = p.server.onePage(ctx, p.req)
		next <- got
	}()
	p.next = next
}

// get waits for the next page, and asks for the one behind it.
func (p *pages) get(ctx context.Context) (page, error) {
	got := <-p.next
	p.next = nil
	if p.barren++; len(got.entries) > 0 {
		p.barren = 0
	}
	if p.smaller && got.err == nil {
		p.server.most.Store(int64(p.paging.PagingSize))
	}
	switch {
	case p.refused(&got):
		p.smaller = true
		if err := p.begin(ctx, p.query, int(p.paging.PagingSize/2)); err != nil {
			return page{}, err
		}
		return p.get(ctx)
	case got.err != nil || len(got.cookie) == 0 || p.query.FirstPage:
		return got, got.err
	case p.barren >= mostBarren:
		return got, fmt.Errorf("%s goes on paging and gives no entries: stopped after %d empty pages", p.server.URL, p.barren)
	}
	p.paging.SetCookie(got.cookie)
	p.ask(ctx)
	return got, nil
}

// leave waits for what was asked for and is not wanted any more: an answer to it would
// come in the middle of the next search.
func (p *pages) leave(ctx context.Context) {
	if p.next != nil {
		select {
		case <-p.next:
		case <-ctx.Done():
		}
	}
}

// aside is another connection to the server, for a search in pages while one goes on over
// this: slapd knows of one only, on each connection, how far it has come.
func (s *Server) aside(ctx context.Context) (*Server, error) {
	s.opening.Lock()
	defer s.opening.Unlock()
	if s.side == nil {
		side, err := s.Another(ctx)
		if err != nil {
			return nil, fmt.Errorf("a second connection is needed: %w", err)
		}
		s.side = side
	}
	return s.side, nil
}
