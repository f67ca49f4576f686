package roster

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// served is a SCIM service with so many users that gives a few at a time.
func served(t *testing.T, users, atOnce int) *httptest.Server {
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer s3cret" || r.URL.Path != "/scim/v2/Users" {
			http.Error(w, "no", http.StatusUnauthorized)
			return
		}
		var from int
		_, err := fmt.Sscan(r.URL.Query().Get("startIndex"), &from)
		assert.NoError(t, err)
		var some []string
		for i := from; i <= users && len(some) < atOnce; i++ {
			some = append(some, fmt.Sprintf(`{"userName":"u%d","name":{"familyName":"Quill","givenName":"Ada"},"externalId":"%d","active":%t}`, i, i, i%2 == 0))
		}
		fmt.Fprintf(w, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],"totalResults":%d,"Resources":[%s]}`, users, strings.Join(some, ","))
	}))
	t.Cleanup(s.Close)
	return s
}

func TestAServiceIsReadPageByPage(t *testing.T) {
	s := served(t, 7, 3)
	for _, address := range []string{s.URL + "/scim/v2", s.URL + "/scim/v2/Users/"} {
		r, err := Fetch(context.Background(), address, "s3cret", Options{})
		require.NoError(t, err)
		assert.Len(t, r.Rows, 7)
		assert.Equal(t, "7", r.Rows[6].Values[PersonID])
		assert.Equal(t, WordLeft, r.Rows[6].Status)
	}
}

func TestAServiceThatCannotBeTrustedIsRefused(t *testing.T) {
	elsewhere := httptest.NewServer(http.RedirectHandler("http://127.0.0.1:1/", http.StatusFound))
	defer elsewhere.Close()
	nonsense := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"totalResults":1}`) }))
	defer nonsense.Close()
	for address, want := range map[string]string{
		served(t, 3, 3).URL + "/other":     "it answers 401",
		served(t, 3, 0).URL + "/scim/v2":   "gave 0 users and says that there are 3",
		served(t, 0, 3).URL + "/scim/v2":   "has no users",
		elsewhere.URL:                      "wants to send us elsewhere",
		nonsense.URL:                       "no SCIM list of users",
		"http://hr.larkmoor.example/scim":  "over https only",
		"https://a:b@hr.larkmoor.example/": "holds a password",
	} {
		_, err := Fetch(context.Background(), address, "s3cret", Options{})
		assert.ErrorContains(t, err, want, address)
		assert.NotContains(t, err.Error(), "s3cret")
	}
}

// pages is a service that answers from a list of pages, which begins again
// with each reading.
func pages(t *testing.T, answers ...string) string {
	asked := 0
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		fmt.Fprintf(w, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:ListResponse"],%s}`, answers[min(asked, len(answers)-1)])
		asked++
	}))
	t.Cleanup(s.Close)
	return s.URL
}

func TestAListThatIsNotWholeIsNoRoster(t *testing.T) {
	const ada, bram, clara = `{"id":"1","externalId":"1","userName":"ada"}`, `{"id":"2","externalId":"2","userName":"bram"}`, `{"id":"3","externalId":"3","userName":"clara"}`
	page := func(total int, users ...string) string {
		return fmt.Sprintf(`"totalResults":%d,"Resources":[%s]`, total, strings.Join(users, ","))
	}
	for name, c := range map[string]struct {
		pages []string
		rows  int
		want  string
	}{
		"whole":                       {[]string{page(3, ada, bram), page(3, clara)}, 3, ""},
		"shrinks for good":            {[]string{page(3, ada, bram), page(2, clara), page(3, ada, bram), page(2, clara), page(3, ada), page(2, bram)}, 0, "there are 3 users, and a page later 2"},
		"shrinks once":                {[]string{page(3, ada, bram), page(2, clara), page(2, ada, clara)}, 2, ""},
		"repeats":                     {[]string{page(3, ada, bram), page(3, bram), page(3, ada, bram), page(3, bram), page(3, ada, bram), page(3, bram)}, 0, `the user with the id "2" twice`},
		"the same page for ever":      {[]string{page(1_000_000, ada, bram)}, 0, `the user with the id "1" twice`},
		"more than it says":           {[]string{page(1, ada, bram)}, 0, "gave 2 users and says that there are 1"},
		"more than anybody has":       {[]string{page(2_000_001, ada)}, 0, "more rows than the 2000000"},
		"from where nobody asked":     {[]string{page(3, ada), `"startIndex":1,` + page(3, bram, clara)}, 0, "asked for users from number 2 it gives those from 1"},
		"a user that is no object":    {[]string{page(1, "7")}, 0, "user 1: "},
		"grows for ever, without ids": {[]string{page(3, `{"userName":"a"}`), page(4, `{"userName":"b"}`), page(5, `{"userName":"c"}`), page(6, `{"userName":"d"}`), page(7, `{"userName":"e"}`), page(8, `{"userName":"f"}`)}, 0, "7 users, and a page later 8"},
		"gives nothing in between":    {[]string{page(3, ada), page(3), page(3, ada), page(3), page(3, ada), page(3)}, 0, "gave 1 users and says that there are 3"},
	} {
		r, err := Fetch(context.Background(), pages(t, c.pages...), "", Options{})
		if c.want != "" {
			assert.ErrorContains(t, err, c.want, name)
			continue
		}
		require.NoError(t, err, name)
		assert.Len(t, r.Rows, c.rows, name)
	}
}

func TestAServiceThatTricklesIsLeft(t *testing.T) {
	release := make(chan struct{})
	slow := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		for {
			fmt.Fprint(w, " ")
			w.(http.Flusher).Flush()
			select {
			case <-r.Context().Done():
				return
			case <-release:
				return
			case <-time.After(10 * time.Millisecond):
			}
		}
	}))
	defer slow.Close()
	defer close(release)
	_, err := Fetch(context.Background(), slow.URL, "", Options{Within: 100 * time.Millisecond})
	assert.ErrorContains(t, err, "it was not read within 100ms; roster: fetch_within")
}

func TestAKeptRosterIsTheSameRoster(t *testing.T) {
	r := read(t, "id,family,given,start,end,status\n1,\"Quill, \"\"the comet\"\"\",Ada,2020-01-31,,active\n2,Tern,Bram,,2026-01-31,gone\n", Options{})
	var b bytes.Buffer
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	require.NoError(t, r.Keep(&b, at))
	again, kept, err := ReadKept(&b, nil)
	require.NoError(t, err)
	assert.Equal(t, &Kept{"people", "UTF-8, separated by commas", at, 2, 0, []string{"person-id", "family", "given", "start", "end", "status"}, nil}, kept)
	assert.Equal(t, r.Fields(), again.Fields())
	assert.Equal(t, r.People(day("2026-11-23"), TrustStatus), again.People(day("2026-11-23"), TrustStatus))
	_, _, err = ReadKept(strings.NewReader("nonsense"), nil)
	assert.ErrorContains(t, err, "no kept roster")
}
