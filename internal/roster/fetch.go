package roster

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
)

// pageOfUsers is how many users one request asks for. A server may give fewer.
const pageOfUsers = 500

const (
	tries      = 3                // to find a list that does not change meanwhile
	fetchesFor = 30 * time.Minute // all pages together, where nothing else is set
)

// Fetch reads all users of a SCIM 2.0 service (RFC 7644, section 3.4.2), page
// by page. The address is that of the service or of its Users endpoint; the
// token goes nowhere but there, and only over TLS unless the service runs on
// this machine. A list that changes while it is read is read again; it is an
// error if that does not help.
func Fetch(ctx context.Context, address, token string, opt Options) (*Roster, error) {
	opt.Limits = opt.Limits.orDefault()
	u, err := usersURL(address)
	if err != nil {
		return nil, err
	}
	within := cmp.Or(opt.Within, fetchesFor)
	ctx, cancel := context.WithTimeoutCause(ctx, within,
		fmt.Errorf("it was not read within %s; roster: fetch_within of the settings raises that", within))
	defer cancel()
	s := &service{
		u,
		token,
		&http.Client{Timeout: 2 * time.Minute, CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("it wants to send us elsewhere, and the token is for this address only")
		}},
	}
	for try := 1; ; try++ {
		users, err := s.users(ctx, opt.Limits)
		switch {
		case err == nil:
			return scim(users, address, opt)
		case errors.Is(err, errChanged) && try < tries:
			continue
		case ctx.Err() != nil:
			err = context.Cause(ctx)
		}
		return nil, fmt.Errorf("%s: %w", address, err)
	}
}

// service is a SCIM service and how to ask it.
type service struct {
	address *url.URL // of its users
	token   string
	client  *http.Client
}

var errChanged = errors.New("it is not whole, or it changed while it was read")

// users reads the list once, from its first page to its last.
func (s *service) users(ctx context.Context, most Limits) (all []json.RawMessage, err error) {
	seen := map[string]bool{}
	total, octets := -1, int64(0)
	for {
		page, size, err := s.page(ctx, len(all)+1)
		if err != nil {
			return nil, err
		}
		if total < 0 {
			total = page.Total
		}
		octets += int64(size)
		switch {
		case total == 0:
			return nil, errors.New("it has no users")
		case total > most.Rows:
			return nil, most.tooManyRows()
		case octets > most.Octets:
			return nil, fmt.Errorf(
				"its pages are larger than %d MB together, which no roster is; roster: max_size of the settings raises that",
				most.Octets>>20,
			)
		case page.Total != total:
			return nil, fmt.Errorf("it says that there are %d users, and a page later %d: %w", total, page.Total,
				errChanged)
		case page.Start != 0 && page.Start != len(all)+1:
			return nil, fmt.Errorf(
				"asked for users from number %d it gives those from %d: it cannot be read page by page", len(all)+1,
				page.Start)
		}
		for _, raw := range page.Resources {
			var one struct{ ID string }
			if err := json.Unmarshal(raw, &one); err != nil {
				return nil, fmt.Errorf("user %d: %w", len(seen)+1, err)
			}
			if one.ID != "" && seen[one.ID] {
				return nil, fmt.Errorf("it gives the user with the id %q twice: %w", one.ID, errChanged)
			}
			seen[one.ID] = true
		}
		all = append(all, page.Resources...)
		switch {
		case len(all) == total:
			return all, nil
		case len(page.Resources) == 0 || len(all) > total:
			return nil, fmt.Errorf("it gave %d users and says that there are %d: %w", len(all), total, errChanged)
		}
	}
}

func usersURL(address string) (*url.URL, error) {
	u, err := url.Parse(address)
	if err != nil {
		return nil, err
	}
	ip := net.ParseIP(u.Hostname())
	here := u.Hostname() == "localhost" || ip != nil && ip.IsLoopback()
	if u.Scheme != "https" && (u.Scheme != "http" || !here) {
		return nil, fmt.Errorf("%s: a roster is fetched over https only", address)
	}
	if u.User != nil {
		return nil, errors.New("the address holds a password: give a token in a file instead")
	}
	if u.Path = strings.TrimSuffix(u.Path, "/"); !strings.HasSuffix(u.Path, "/Users") {
		u.Path += "/Users"
	}
	return u, nil
}

// scimPage is a ListResponse (RFC 7644, section 3.4.2).
type scimPage struct {
	Schemas   []string          `json:"schemas"`
	Total     int               `json:"totalResults"`
	Start     int               `json:"startIndex"` // 0 where it is not said
	Resources []json.RawMessage `json:"Resources"`
}

// mostPage is how large one page may be.
const mostPage = 64 << 20

// page reads the users from a number, and tells how many octets they took.
func (s *service) page(ctx context.Context, from int) (page *scimPage, octets int, err error) {
	at := *s.address
	query := at.Query()
	query.Set("startIndex", strconv.Itoa(from))
	query.Set("count", strconv.Itoa(pageOfUsers))
	at.RawQuery = query.Encode()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, 0, err
	}
	req.Header.Set("Accept", "application/scim+json, application/json")
	if s.token != "" {
		req.Header.Set("Authorization", "Bearer "+s.token)
	}
	resp, err := s.client.Do(req)
	if err != nil {
		var wrapped *url.Error
		if errors.As(err, &wrapped) {
			err = wrapped.Err // which repeats the address
		}
		return nil, 0, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, 0, fmt.Errorf("it answers %s", resp.Status)
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostPage+1))
	if err != nil {
		return nil, 0, err
	}
	if len(body) > mostPage {
		return nil, 0, errors.New("a page of it is larger than a page can be")
	}
	page = &scimPage{}
	if err := json.Unmarshal(body, page); err != nil {
		return nil, 0, jsonError(string(body), err)
	}
	if !slices.ContainsFunc(page.Schemas, isListResponse) {
		return nil, 0, errors.New("what it answers is no SCIM list of users")
	}
	return page, len(body), nil
}

func isListResponse(schema string) bool { return strings.HasSuffix(schema, ":ListResponse") }
