package roster

import (
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

// Fetch reads all users of a SCIM 2.0 service (RFC 7644, section 3.4.2), page
// by page. The address is that of the service or of its Users endpoint; the
// token goes nowhere but there, and only over TLS unless the service runs on
// this machine.
func Fetch(ctx context.Context, address, token string, opt Options) (*Roster, error) {
	u, err := usersURL(address)
	if err != nil {
		return nil, err
	}
	client := &http.Client{Timeout: 2 * time.Minute, CheckRedirect: func(*http.Request, []*http.Request) error {
		return errors.New("it wants to send us elsewhere, and the token is for this address only")
	}}
	var all []json.RawMessage
	for {
		page, err := fetchPage(ctx, client, u, token, len(all)+1)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", address, err)
		}
		all = append(all, page.Resources...)
		switch {
		case len(all) == page.Total:
			if len(all) == 0 {
				return nil, fmt.Errorf("%s has no users", address)
			}
			return scim(all, address, opt)
		case len(page.Resources) == 0 || len(all) > page.Total:
			return nil, fmt.Errorf("%s gave %d users and says that there are %d: it is not whole, or it changed while it was read", address, len(all), page.Total)
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
	Resources []json.RawMessage `json:"Resources"`
}

func fetchPage(ctx context.Context, client *http.Client, u *url.URL, token string, from int) (*scimPage, error) {
	at := *u
	query := at.Query()
	query.Set("startIndex", strconv.Itoa(from))
	query.Set("count", strconv.Itoa(pageOfUsers))
	at.RawQuery = query.Encode()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at.String(), nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept", "application/scim+json, application/json")
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := client.Do(req)
	if err != nil {
		var wrapped *url.Error
		if errors.As(err, &wrapped) {
			err = wrapped.Err // which repeats the address
		}
		return nil, err
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, fmt.Errorf("it answers %s", resp.Status)
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, mostOctets/16+1))
	if err != nil {
		return nil, err
	}
	if len(body) > mostOctets/16 {
		return nil, errors.New("a page of it is larger than a page can be")
	}
	page := &scimPage{}
	if err := json.Unmarshal(body, page); err != nil {
		return nil, jsonError(string(body), err)
	}
	if !slices.ContainsFunc(page.Schemas, isListResponse) {
		return nil, errors.New("what it answers is no SCIM list of users")
	}
	return page, nil
}

func isListResponse(schema string) bool { return strings.HasSuffix(schema, ":ListResponse") }
