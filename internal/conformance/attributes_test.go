package conformance

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/listing"
	"yardbroom/internal/source"
)

// TestEveryAttributeOfTheServersIsClassed goes through the schemas of the three
// servers: each attribute may be changed by a batch, or by an action of its own,
// or not at all; one that nobody has thought of is not; and no other name, no
// number and no attribute derived from one opens a way round.
func TestEveryAttributeOfTheServersIsClassed(t *testing.T) {
	each(t, func(t *testing.T, s *subject) {
		if s.real == nil {
			t.Skip("the practice directory publishes no schema")
		}
		ctx := context.Background()
		c := s.connect(t)
		all, err := c.Definitions(ctx)
		require.NoError(t, err)
		require.Greater(t, len(all), 200)
		known := map[string]*directory.Definition{}
		for _, d := range all {
			for _, name := range append(d.Names, d.OID) {
				known[strings.ToLower(name)] = d
			}
		}
		count := map[string]int{}
		for _, d := range all {
			classes := map[batch.Class]bool{}
			for _, name := range d.Names {
				classes[batch.ClassOf(name)] = true
			}
			for _, name := range d.Names {
				why, err := batch.Settable(ctx, c, name, nil)
				require.NoError(t, err)
				secret, err := c.Secret(ctx, name)
				require.NoError(t, err)
				switch {
				case classes[batch.Never], classes[batch.ByAction], d.ReadOnly, d.Operational, secret:
					assert.NotEmpty(t, why, "%s decides on something", name)
					more, err := batch.Settable(ctx, c, name, []string{name})
					require.NoError(t, err)
					assert.NotEmpty(t, more, "no setting opens %s", name)
				case classes[batch.Allowed]:
					assert.Empty(t, why, name)
				default:
					assert.NotEmpty(t, why, "nobody has thought of %s", name)
				}
			}
			switch {
			case classes[batch.Never]:
				count["never"]++
			case classes[batch.ByAction]:
				count["by action"]++
			case classes[batch.Allowed]:
				count["allowed"]++
				for up := known[strings.ToLower(d.Super)]; up != nil; up = known[strings.ToLower(up.Super)] {
					for _, name := range up.Names {
						assert.NotEqual(t, batch.Never, batch.ClassOf(name), "%v derives from %s", d.Names, name)
					}
				}
				octets := d.Syntax == "1.3.6.1.4.1.1466.115.121.1.40"
				assert.False(t, octets, "%v holds octets", d.Names)
			default:
				count["unlisted"]++
			}
			if directory.IsOID(d.OID) {
				why, err := batch.Settable(ctx, c, d.OID, []string{d.OID})
				require.NoError(t, err)
				assert.NotEmpty(t, why, "a number is no name: %s", d.OID)
			}
		}
		t.Logf("%s: %d attributes: %v", s.name, len(all), count)
		for _, name := range []string{"description", "telephoneNumber", "l"} {
			why, err := batch.Settable(ctx, c, name, nil)
			require.NoError(t, err)
			assert.Empty(t, why)
		}
	})
}

// observer makes an account with attributes of a schema of our own.
func observer(t *testing.T) (*story, string) {
	s := slapdSubject(t)
	st := newStory(t, s)
	ada := s.person(t, st.c, "Ada Quill", "aquill")
	st.tell(ada, func(r *ldap.ModifyRequest) {
		r.Add("objectClass", []string{"observer"})
		r.Add("gateCode", []string{"open sesame"})
	})
	st.c.Close()
	st.c = s.connect(t)
	return st, ada
}

func TestWhatDerivesFromAPasswordIsASecret(t *testing.T) {
	ctx := context.Background()
	st, ada := observer(t)
	e := st.s.entry(t, st.c, ada)
	assert.Empty(t, e.Get("gateCode"))
	assert.NotEmpty(t, e.Get("mail"))
	for _, filter := range []string{"(gateCode=open sesame)", "(doorCode=open sesame)", "(userPassword=Right-secret1)", "(2.5.4.35=Right-secret1)", "(1.3.6.1.4.1.32473.1.1=open sesame)",
		"(gateCode;lang-en=x)", "(&(cn=a)(!(gateCode=*)))", "(:caseExactMatch:=open sesame)", "(gateCode:octetStringMatch:=open sesame)"} {
		_, err := st.c.Find(ctx, filter)
		assert.Error(t, err, filter)
		_, err = listing.Run(ctx, st.c, listing.Query{Zone: time.UTC, AsOf: time.Now(), Filter: filter})
		assert.Error(t, err, filter)
	}
	_, err := listing.Run(ctx, st.c, listing.Query{Zone: time.UTC, AsOf: time.Now(), Filter: "(cn=Ada Quill)", Columns: []string{"account", "gateCode"}})
	assert.Error(t, err)
	err = st.c.Each(ctx, source.Selection{Attributes: []string{"DOORCODE"}}, func() {}, func(*directory.Entry) any { return nil }, func(any) {})
	assert.ErrorContains(t, err, "never asked for")

	// Nor does it get into the journal.
	b := st.mustStage("describe", "", ada)
	res, _ := st.apply(b)
	require.Equal(t, 1, res.Counts[batch.Applied])
	records, err := st.Journal(ctx, 0, 0)
	require.NoError(t, err)
	for _, r := range records {
		assert.NotContains(t, string(r.Body), "sesame")
		assert.NotContains(t, string(r.Body), "Right-secret1")
	}
}

func TestAValueThatIsKeptInAnotherFormWasWritten(t *testing.T) {
	st, ada := observer(t)
	values := []batch.Assignment{{Attr: "orderedNote", New: "first"}}
	_, refusals, err := st.stageOrder(batch.Order{Actions: []string{batch.Set}}, values, ada)
	require.ErrorIs(t, err, batch.ErrNothing)
	assert.Contains(t, refusals[0].Why, "not among the attributes that batches may change")
	st.set.Batch.Attributes = []string{"orderedNote"}
	b, _, err := st.stageOrder(batch.Order{Actions: []string{batch.Set}}, values, ada)
	require.NoError(t, err)
	res, kept := st.apply(b)
	require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
	assert.Equal(t, []string{"{0}first"}, st.s.entry(t, st.c, ada).Get("orderedNote"))
	res, kept = st.undo(b)
	require.Equal(t, map[batch.LineState]int{batch.Applied: 1}, res.Counts, kept.Lines[0].Note)
	assert.Empty(t, st.s.entry(t, st.c, ada).Get("orderedNote"))

	// What decides on who may act for whom is opened by no setting.
	st.set.Batch.Attributes = []string{"authzTo", "gateCode", "doorCode"}
	for _, attr := range st.set.Batch.Attributes {
		_, _, err := st.stageOrder(batch.Order{Actions: []string{batch.Set}}, []batch.Assignment{{Attr: attr, New: "dn:*"}}, ada)
		require.ErrorIs(t, err, batch.ErrNothing, attr)
	}
}
