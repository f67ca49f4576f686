package carry

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
	"yardbroom/internal/store"
)

// Trial is what was seen of a server when an account that was made for it was
// deleted there and brought back.
type Trial struct {
	Host     string          `json:"host"`
	Identity source.Identity `json:"identity"`
	At       time.Time       `json:"at"`
	// Itself tells that it came back with the identity that it had, and on the `ad`
	// schema with its SID.
	Itself bool `json:"itself"`
	// Lost are the attributes that it came back without.
	Lost []string `json:"lost,omitempty"`
	Why  string   `json:"why,omitempty"` // it did not come back, "" where it did
}

// EventTried is the journal's event of a Trial.
const EventTried = "return-tried"

func (t *Trial) String() string {
	on := fmt.Sprintf("tried on %s on %s", t.Host, t.At.Format(time.DateOnly))
	switch {
	case t.Why != "":
		return "a deleted account does not come back (" + on + "): " + t.Why
	case !t.Itself:
		return "a deleted account comes back as a new entry, with another identity (" + on + ")"
	case len(t.Lost) > 0:
		return fmt.Sprintf("a deleted account comes back as itself, without its %s (%s)", strings.Join(t.Lost, ", "),
			on)
	}
	return "a deleted account comes back as itself (" + on + ")"
}

// Try makes an account of its own in a container, deletes it, brings it back by the
// journal as an undo does, and deletes it again. The runner's store is one that is
// thrown away; its batch is not looked at.
func (j *Job) Try(ctx context.Context, container string) (t *Trial, err error) {
	id, err := j.Server.Identity(ctx)
	if err != nil {
		return nil, err
	}
	t = &Trial{Host: j.Server.HostName(), Identity: id, At: j.Now().UTC()}
	name := "yb-try-" + strings.ToLower(rand.Text()[:10])
	dn := "CN=" + name + "," + container
	if err := j.Server.Add(dn, trialAccount(j.Server.Dialect, name)); err != nil {
		return nil, fmt.Errorf("making %s: %w", dn, err)
	}
	was, err := j.trialEntry(ctx, dn)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, j.sweepTrial(context.WithoutCancel(ctx), dn)) }()
	gone := j.trialBatch(
		id,
		batch.Line{
			N:          1,
			DN:         was.DN,
			ID:         source.ShowIdentity(j.Server.Dialect, was.First(j.Server.Dialect.Identity.String())),
			Account:    name,
			Kind:       directory.KindUser.String(),
			Reason:     "a trial",
			Confidence: "sure",
			Actions:    []batch.Action{{Name: batch.Delete}},
		},
	)
	if why, err := j.carryTrial(ctx, gone); err != nil || why != "" {
		return nil, errors.Join(err, errors.New(why))
	}
	back, _, err := Inverse(ctx, j.Store, gone, nil, j.By, j.Now())
	if err != nil {
		return nil, err
	}
	if t.Why, err = j.carryTrial(ctx, back); err != nil || t.Why != "" {
		return t, err
	}
	now, err := j.trialEntry(ctx, dn)
	if err != nil {
		return nil, err
	}
	same := func(attr string) bool { return was.First(attr) == now.First(attr) }
	t.Itself = same(j.Server.Dialect.Identity.String()) && same("objectSid")
	for _, a := range was.Attrs {
		if !directory.IsServerOwned(a.Name) && !now.Has(a.Name) {
			t.Lost = append(t.Lost, a.Name)
		}
	}
	return t, nil
}

// trialAccount is what the account of a trial has: it is disabled, or has no
// password.
func trialAccount(d *directory.Dialect, name string) (all []directory.Attribute) {
	add := func(attr string, values ...string) {
		all = append(all, directory.Attribute{Name: attr, Values: values})
	}
	add("description", "made by yardbroom to try whether it comes back when it is deleted; it may be deleted")
	if d == directory.AD {
		add("objectClass", "user")
		add("sAMAccountName", name)
		add("userAccountControl", "514")
		add("department", "Trials")
		return all
	}
	add("objectClass", "inetOrgPerson")
	add("cn", name)
	add("sn", "Trial")
	add("uid", name)
	return all
}

func (j *Job) trialEntry(ctx context.Context, dn string) (*directory.Entry, error) {
	found, err := j.Server.Get(ctx, []string{dn})
	if err == nil && len(found) != 1 {
		err = fmt.Errorf("%s is not there", dn)
	}
	if err != nil {
		return nil, err
	}
	return &found[0], nil
}

func (j *Job) trialBatch(id source.Identity, lines ...batch.Line) *batch.Batch {
	return &batch.Batch{
		Identity: id,
		Source:   "a trial",
		Created:  j.Now().UTC(),
		By:       j.By,
		Why:      "a trial",
		Actions:  []string{batch.Delete},
		Lines:    lines,
	}
}

// carryTrial carries a batch of one line out and tells why it was not done.
func (j *Job) carryTrial(ctx context.Context, b *batch.Batch) (why string, err error) {
	if err := b.Save(ctx, j.Store); err != nil {
		return "", err
	}
	one := *j
	one.Batch, one.OnCopy = b, true // nobody has to agree to what was made a moment ago
	if _, err := one.Run(ctx, Pace{}); err != nil {
		return "", err
	}
	if l := &b.Lines[0]; l.State != batch.Applied && l.State != batch.InPart {
		return string(l.State) + ": " + l.Note, nil
	}
	return "", nil
}

// sweepTrial deletes the account of a trial, if it stands.
func (j *Job) sweepTrial(ctx context.Context, dn string) error {
	found, err := j.Server.Get(ctx, []string{dn})
	if err != nil || len(found) == 0 {
		return err
	}
	if err := j.Server.Delete(source.Entry{DN: dn, ID: found[0].First(j.Server.Dialect.Identity.String())}, ""); err != nil {
		return fmt.Errorf("%s was made for the trial and could not be deleted: %w", dn, err)
	}
	return nil
}

// Keep writes a trial into the journal, which remembers it for its server.
func (t *Trial) Keep(ctx context.Context, s *store.Store, by string) error {
	body, err := json.Marshal(t)
	if err != nil {
		return err
	}
	_, err = s.Append(ctx, &store.Record{At: t.At, By: by, Event: EventTried, Body: body})
	return err
}

// LastTrial is the last trial on a server of a directory, nil where there was none.
func LastTrial(ctx context.Context, s *store.Store, id source.Identity, host string) (last *Trial, err error) {
	err = s.Since(ctx, EventTried, time.Time{}, func(rec *store.Sealed) error {
		var t Trial
		if err := decodeBody(rec.Body, &t, rec.Seq); err != nil {
			return err
		}
		if last == nil && t.Identity.Same(id) && strings.EqualFold(t.Host, host) {
			last = &t
		}
		return nil
	})
	return last, err
}
