package rounds

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/realserver"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
)

func TestAMailThatCannotBeSentIsSentByTheNextRun(t *testing.T) {
	y := newYard(t, staleNightly)
	y.post.shut = errDown
	run := y.run(t, "nightly")
	assert.Equal(t, Done, run.Outcome, "what was found is known, and told when the server is back")
	status, err := y.StatusOf(t.Context(), "nightly", time.Hour)
	require.NoError(t, err)
	assert.Equal(t, []string{"1 message could not be handed over yet"}, status.Trouble())

	y.tomorrow()
	y.post.shut = nil
	y.run(t, "nightly")
	require.Len(t, y.post.mails, 1, "the mail of yesterday, and none of today")
	assert.Equal(t, "small: 1 new medium", y.post.mails[0].subject)
	y.tomorrow()
	y.run(t, "nightly")
	assert.Len(t, y.post.mails, 1)
}

func TestWhatOneServerRefusesIsNothingToTheOthers(t *testing.T) {
	y := newYard(t, `  nightly:
    steps: [{audit: {checks: stale}}]
    tell: [{to: [ada@larkmoor.example, ben@larkmoor.example, cleo@larkmoor.example]}]
`)
	y.post.refuses = map[string]error{"ada@larkmoor.example": refusal(), "ben@larkmoor.example": errDown}
	y.run(t, "nightly")
	past, err := y.Past(t.Context(), "nightly", 1)
	require.NoError(t, err)
	states := map[string]string{}
	for _, to := range past[0].Told {
		states[to.Address] = to.State
	}
	assert.Equal(t, map[string]string{"ada@larkmoor.example": store.DeliveryRefused, "ben@larkmoor.example": store.DeliveryWaits,
		"cleo@larkmoor.example": store.DeliverySent}, states)
	y.post.refuses = nil
	y.tomorrow()
	y.run(t, "nightly")
	assert.Empty(t, y.post.to("ada@larkmoor.example"), "what was refused for good is not tried again")
	assert.Len(t, y.post.to("ben@larkmoor.example"), 1)
	assert.Len(t, y.post.to("cleo@larkmoor.example"), 1)
}

func TestWaitsGrowAndEndBeforeTheNextNight(t *testing.T) {
	assert.Equal(t, 2*time.Minute, waits(1))
	assert.Equal(t, 12*time.Hour, waits(50))
}

func TestAPostIsSignedAndTriedAgain(t *testing.T) {
	folder := t.TempDir()
	secret, token := filepath.Join(folder, "secret"), filepath.Join(folder, "token")
	require.NoError(t, os.WriteFile(secret, []byte("a key\n"), 0o600))
	require.NoError(t, os.WriteFile(token, []byte("a token\n"), 0o600))
	var status int
	var body, signature, authorization string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		text, _ := io.ReadAll(r.Body)
		body, signature, authorization = string(text), r.Header.Get(signatureHeader), r.Header.Get("Authorization")
		w.WriteHeader(status)
	}))
	defer server.Close()
	at := time.Unix(1800000000, 0)
	for _, one := range []struct {
		status  int
		refused bool
		failed  bool
	}{{200, false, false}, {204, false, false}, {302, true, true}, {404, true, true}, {429, false, true}, {503, false, true}} {
		status = one.status
		err := network{}.Post(t.Context(), &settings.Post{URL: server.URL, SecretFile: secret}, []byte(`{"a":1}`), at)
		assert.Equal(t, one.failed, err != nil, one.status)
		assert.Equal(t, one.refused, errors.As(err, new(RefusedError)), one.status)
	}
	assert.Equal(t, `{"a":1}`, body)
	assert.Equal(t, "t=1800000000,sha256=ff474fdb33b776b63b32c3bb31837548da08e709447475c3d888ae085a272ff5", signature)
	require.NoError(t, os.Chmod(token, 0o644))
	err := network{}.Post(t.Context(), &settings.Post{URL: server.URL, TokenFile: token}, nil, at)
	require.Error(t, err, "a file of secrets that others may read")
	require.NoError(t, os.Chmod(token, 0o600))
	status = 200
	require.NoError(t, network{}.Post(t.Context(), &settings.Post{URL: server.URL, TokenFile: token}, nil, at))
	assert.Equal(t, "Bearer a token", authorization)
}

func TestTheResultIsPosted(t *testing.T) {
	y := newYard(t, `  nightly:
    steps: [{audit: {checks: stale}}]
    post: [{url: "http://localhost:1/hook"}]
`)
	y.run(t, "nightly")
	require.Len(t, y.post.posts, 1)
	assert.Contains(t, string(y.post.posts[0]), `"text": "small: 1 new medium"`)
	assert.Contains(t, string(y.post.posts[0]), `"account": "ada"`)
}

func TestMailGoesThroughARealServer(t *testing.T) {
	server := realserver.Mail(t, "*")
	y := newYard(t, `  nightly:
    steps: [{audit: {checks: stale}}]
    tell: [{to: [grey@larkmoor.example, nobody@larkmoor.example, "Kay Keeper <kay@larkmoor.example>"], attach: html}]
`)
	y.Settings.Mail, y.Send = server.Settings, nil
	trials, err := y.Test(t.Context(), "nightly")
	require.NoError(t, err)
	assert.Contains(t, trials, Trial{"Mail server", true, server.Settings.Server + " takes mail from Yard Broom <yardbroom@larkmoor.example>"})
	y.run(t, "nightly")
	arrives := func(want string) {
		t.Helper()
		require.Eventually(t, func() bool { return strings.Contains(server.Box(t), want) }, 20*time.Second, 50*time.Millisecond, "%s", want)
	}
	arrives("Envelope-to: kay@larkmoor.example")
	states := func() (all []string) {
		past, err := y.Past(t.Context(), "nightly", 5)
		require.NoError(t, err)
		for _, to := range past[len(past)-1].Told {
			all = append(all, to.State)
		}
		return all
	}
	assert.Equal(t, []string{store.DeliveryWaits, store.DeliveryRefused, store.DeliverySent}, states())
	server.Knows(t)
	y.tomorrow()
	y.run(t, "nightly")
	arrives("Envelope-to: grey@larkmoor.example")
	assert.Equal(t, []string{store.DeliverySent, store.DeliveryRefused, store.DeliverySent}, states())
	assert.Equal(t, 1, strings.Count(server.Box(t), "Envelope-to: kay"), "nobody gets it twice")
	assert.Contains(t, server.Box(t), "Subject: small: 1 new medium")
}

func TestReportsThatAreTooLargeAreNamed(t *testing.T) {
	y := newYard(t, `  nightly:
    steps: [{audit: {checks: stale}}]
    tell: [{to: kay@larkmoor.example, attach: html}]
`)
	y.Settings.Mail.AttachUpTo = 1
	y.run(t, "nightly")
	mail := y.post.to("kay@larkmoor.example")[0]
	assert.NotContains(t, mail, "file small-audit.html")
	assert.Contains(t, mail, "KB, too large to attach")
	assert.FileExists(t, filepath.Join(y.State, "rounds", "nightly", "run-1", "mail-0", "small-audit.html"))
}
