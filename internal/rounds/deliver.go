package rounds

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/tls"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"yardbroom/internal/ladder"
	"yardbroom/internal/mail"
	"yardbroom/internal/settings"
	"yardbroom/internal/store"
	"yardbroom/internal/trust"
)

// The kinds of messages.
const (
	kindMail = "mail"
	kindPost = "post"
)

// messageHead is what is known of a message besides what it says.
type messageHead struct {
	Subject string `json:"subject,omitempty"`
	ID      string `json:"id"` // Message-ID of a mail
	Post    int    `json:"post,omitempty"`
	ladder.Telling
}

// Sender hands messages over.
type Sender interface {
	// Mail opens a connection to the mail server.
	Mail(ctx context.Context, set *settings.Mail) (MailConnection, error)
	// Post sends a body to an address.
	Post(ctx context.Context, p *settings.Post, body []byte, at time.Time) error
}

// MailConnection is a connection to a mail server.
type MailConnection interface {
	Send(to string, message []byte) error
	Close() error
}

// network sends by the network.
type network struct{}

func (network) Mail(ctx context.Context, set *settings.Mail) (MailConnection, error) {
	return mail.Connect(ctx, set)
}

// RefusedError says that something will not be taken, now or later.
type RefusedError = mail.RefusedError

// answersWithin is how long the answer to a post is waited for.
const answersWithin = 30 * time.Second

// signatureHeader carries the HMAC of a posted body and the second that it was
// made in, in hexadecimal and decimal: t=1800000000,sha256=…, over "1800000000."
// and the body.
const signatureHeader = "Yardbroom-Signature"

func (network) Post(ctx context.Context, p *settings.Post, body []byte, at time.Time) error {
	ctx, cancel := context.WithTimeout(ctx, answersWithin)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, p.URL, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/json")
	if p.TokenFile != "" {
		token, err := trust.Kept{File: p.TokenFile}.Read(ctx)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if p.SecretFile != "" {
		secret, err := trust.Kept{File: p.SecretFile}.Read(ctx)
		if err != nil {
			return err
		}
		req.Header.Set(signatureHeader, sign(secret, body, at))
	}
	client, err := httpClient(p.CAFile)
	if err != nil {
		return err
	}
	answer, err := client.Do(req)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	_, _ = io.Copy(io.Discard, io.LimitReader(answer.Body, 1<<16))
	switch code := answer.StatusCode; {
	case code < 300:
		return nil
	case code == http.StatusRequestTimeout, code == http.StatusTooManyRequests, code >= 500:
		return fmt.Errorf("it answered %s", answer.Status)
	default:
		return mail.Refused(fmt.Errorf("it answered %s", answer.Status))
	}
}

// sign is the signature of a body.
func sign(secret string, body []byte, at time.Time) string {
	second := strconv.FormatInt(at.Unix(), 10)
	h := hmac.New(sha256.New, []byte(secret))
	fmt.Fprintf(h, "%s.", second)
	h.Write(body)
	return "t=" + second + ",sha256=" + hex.EncodeToString(h.Sum(nil))
}

// httpClient follows no redirects: what is sent holds secrets.
func httpClient(caFile string) (*http.Client, error) {
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if caFile == "" {
		return client, nil
	}
	roots, err := trust.Roots(caFile)
	if err != nil {
		return nil, err
	}
	client.Transport = &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots, MinVersion: tls.VersionTLS12},
		Proxy: http.ProxyFromEnvironment}
	return client, nil
}

// waits is how long a message that could not be handed over waits for the next try:
// longer each time, but not so long that the next night's run finds it waiting.
func waits(tries int) time.Duration {
	return min(time.Minute<<min(tries, 10), 12*time.Hour)
}

// sender is what hands messages over.
func (r *Runner) sender() Sender {
	if r.Send != nil {
		return r.Send
	}
	return network{}
}

// deliver hands over what waits, from this run and from earlier ones. What cannot
// be waits for the next run.
func (w *running) deliver(ctx context.Context) {
	if err := Deliver(ctx, w.kept, w.Settings, w.by.sender(), w.Now, w.log); err != nil &&
		!isStopped(ctx, err) {
		w.log("messages could not be handed over: %v", err)
	}
}

// Deliver hands over the messages that wait in a state folder: by the network, where
// send is nil. Those of a server that does not answer wait on.
func Deliver(
	ctx context.Context, kept *store.Store, set *settings.Settings, send Sender, now func() time.Time,
	log func(format string, args ...any),
) error {
	unlock, err := kept.LockMessages()
	if errors.Is(err, store.ErrBusy) {
		return nil // somebody else does
	}
	if err != nil {
		return err
	}
	defer unlock()
	waiting, err := kept.Waiting(ctx)
	if err != nil || len(waiting) == 0 {
		return err
	}
	if send == nil {
		send = network{}
	}
	d := &delivery{kept: kept, set: set, send: send, now: now, log: log}
	defer d.close()
	for _, m := range waiting {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err := d.message(ctx, m); err != nil {
			return err
		}
	}
	return nil
}

// delivery is one go over what waits.
type delivery struct {
	kept *store.Store
	set  *settings.Settings
	send Sender
	now  func() time.Time
	log  func(string, ...any)
	conn MailConnection
	down error // why the mail server cannot be reached
}

func (d *delivery) close() {
	if d.conn != nil {
		_ = d.conn.Close()
		d.conn = nil
	}
}

// message hands one message over to each who waits for it.
func (d *delivery) message(ctx context.Context, m *store.Message) error {
	var head messageHead
	if err := json.Unmarshal(m.Head, &head); err != nil {
		return fmt.Errorf("message %d: %w", m.ID, err)
	}
	var body []byte
	for i := range m.To {
		to := &m.To[i]
		if to.Next.After(d.now()) || ctx.Err() != nil {
			continue
		}
		if body == nil {
			var err error
			if body, err = d.kept.Body(ctx, m.ID); err != nil {
				return err
			}
		}
		to.State = store.DeliverySending
		if err := d.kept.NoteDelivery(ctx, m.ID, to); err != nil {
			return err
		}
		err := d.handOver(ctx, m, &head, to.Address, body)
		to.Tries++
		to.Error, to.Next = "", time.Time{}
		var refused RefusedError
		switch {
		case err == nil:
			to.State = store.DeliverySent
			d.log("%s to %s: sent", m.Kind, to.Address)
		case errors.As(err, &refused):
			to.State, to.Error = store.DeliveryRefused, fault(err)
			d.log("%s to %s: refused: %s", m.Kind, to.Address, to.Error)
		default:
			to.State, to.Error, to.Next = store.DeliveryWaits, fault(err), d.now().Add(waits(to.Tries)).UTC()
			d.log("%s to %s: not sent yet: %s", m.Kind, to.Address, to.Error)
		}
		records, err := head.Records(to.State, to.Address, d.now())
		if err != nil {
			return err
		}
		// That it was sent is written down even if the program is told to stop.
		if err := d.kept.NoteDelivery(context.WithoutCancel(ctx), m.ID, to, records...); err != nil {
			return err
		}
	}
	return nil
}

// handOver hands a message over to one address.
func (d *delivery) handOver(ctx context.Context, m *store.Message, head *messageHead, address string, body []byte) error {
	if m.Kind == kindPost {
		round := d.set.Rounds[m.Round]
		for i := range round.Post {
			if round.Post[i].URL == address {
				return d.send.Post(ctx, &round.Post[i], body, d.now())
			}
		}
		return mail.Refused(errors.New("the settings name this address no more"))
	}
	if d.down != nil {
		return d.down
	}
	if d.conn == nil {
		if d.conn, d.down = d.send.Mail(ctx, &d.set.Mail); d.down != nil {
			d.conn = nil
			return d.down
		}
	}
	err := d.conn.Send(mail.Bare(address), body)
	if mail.Broken(err) {
		d.close()
	}
	return err
}
