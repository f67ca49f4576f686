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

// service is a SCIM service with so many users that gives a few at a time.
func service(t *testing.T, users, atOnce int) *httptest.Server {
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
	s := service(t, 7, 3)
	for _, address := range []string{s.URL + "/scim/v2", s.URL + "/scim/v2/Users/"} {
		r, err := Fetch(context.Background(), address, "s3cret", Options{})
		require.NoError(t, err)
		assert.Len(t, r.Rows, 7)
		assert.Equal(t, "7", r.Rows[6].Values[PersonID])
		assert.Equal(t, SaysLeft, r.Rows[6].Status)
	}
}

func TestAServiceThatCannotBeTrustedIsRefused(t *testing.T) {
	elsewhere := httptest.NewServer(http.RedirectHandler("http://127.0.0.1:1/", http.StatusFound))
	defer elsewhere.Close()
	nonsense := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `{"totalResults":1}`) }))
	defer nonsense.Close()
	for address, want := range map[string]string{
		service(t, 3, 3).URL + "/other":    "it answers 401",
		service(t, 3, 0).URL + "/scim/v2":  "gave 0 users and says that there are 3",
		service(t, 0, 3).URL + "/scim/v2":  "has no users",
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

func TestAKeptRosterIsTheSameRoster(t *testing.T) {
	r := read(t, "id,family,given,start,end,status\n1,\"Quill, \"\"the comet\"\"\",Ada,2020-01-31,,active\n2,Tern,Bram,,2026-01-31,gone\n", Options{})
	var b bytes.Buffer
	at := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	require.NoError(t, r.Keep(&b, at))
	again, kept, err := ReadKept(&b, nil)
	require.NoError(t, err)
	assert.Equal(t, &Kept{"people", "UTF-8, separated by commas", at, 2, 0}, kept)
	assert.Equal(t, r.People(day("2026-11-23"), false), again.People(day("2026-11-23"), false))
	_, _, err = ReadKept(strings.NewReader("nonsense"), nil)
	assert.ErrorContains(t, err, "no kept roster")
}
