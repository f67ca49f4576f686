package source

import (
	"context"
	"slices"
	"time"

	"github.com/go-ldap/ldap/v3"

	"yardbroom/internal/directory"
)

// doubt is an entry that may hide something.
type doubt struct {
	key directory.Key
	id  string // "" where that is hidden too
}

const (
	// doubtsAtOnce is how many entries are asked for by their identities in one question:
	// a server holds each that it finds against all of them, and each question is a way
	// there and back.
	doubtsAtOnce = 50
	// So many pages of doubts may be met before all entries are asked at once, and one
	// doubt for so many entries that hide nothing.
	doubtPages    = 5
	wholeForDoubt = 8
)

// decided returns, of entries that may hide something, the attributes of which the server
// may tell whether they have them. Of one without an identity it may be asked in vain.
func (v *seer) decided(ctx context.Context, doubts []doubt) (map[directory.Key]directory.AttrSet, error) {
	shown := make(map[directory.Key]directory.AttrSet, len(doubts))
	for some := range slices.Chunk(doubts, min(doubtsAtOnce, v.server.pageSize())) {
		if v.shown == nil && v.all != "" && v.many() {
			if err := v.askAll(ctx); err != nil {
				return nil, err
			}
		}
		v.asked += len(some)
		var open []doubt
		for _, d := range some {
			if all, known := v.shown[d.key]; known {
				shown[d.key] = all
			} else if d.id != "" {
				open = append(open, d)
			}
		}
		if err := v.askThese(ctx, open, shown); err != nil {
			return nil, err
		}
	}
	return shown, nil
}

// many tells that so many entries may hide something, or that a server without an index of
// identities answers so late, that it is time to ask for all of them at once.
func (v *seer) many() bool {
	all := time.Duration(1+v.often.Len()) * v.took
	return v.asked > max(doubtPages*v.server.pageSize(), len(v.whole)/wholeForDoubt) || v.took > 0 && v.spent > all
}

// askAll finds out, of all entries that may be met, which show all but what is often
// hidden, and what of that they show.
func (v *seer) askAll(ctx context.Context) error {
	v.shown = map[directory.Key]directory.AttrSet{}
	mostly := v.told.Without(v.often)
	q := Query{Base: v.server.Base, Scope: ldap.ScopeWholeSubtree, Filter: "(&" + v.all + decidable(mostly) + ")"}
	err := v.server.keys(ctx, q, func(key directory.Key) { v.shown[key] = mostly })
	for id := range v.often.All() {
		if err != nil {
			break
		}
		q.Filter = "(&" + v.all + eitherWay(id) + ")"
		err = v.server.keys(ctx, q, func(key directory.Key) {
			if set, known := v.shown[key]; known {
				set.Add(id)
				v.shown[key] = set
			}
		})
	}
	return err
}

// askThese adds what some entries show, which fit into one page.
func (v *seer) askThese(ctx context.Context, some []doubt, shown map[directory.Key]directory.AttrSet) error {
	if len(some) == 0 {
		return nil
	}
	began := time.Now()
	defer func() { v.spent += time.Since(began) }()
	ask := func(of []doubt, all directory.AttrSet) error {
		ids := make([]string, len(of))
		for i, d := range of {
			ids[i] = d.id
		}
		q := Query{
			Base:    v.server.Base,
			Scope:   ldap.ScopeWholeSubtree,
			Filter:  "(&" + anyIdentity(v.server.Dialect, ids) + decidable(all) + ")",
			Unpaged: true,
		}
		return v.server.keys(ctx, q, func(key directory.Key) { shown[key] = shown[key].Union(all) })
	}
	mostly := v.told.Without(v.often)
	if err := ask(some, mostly); err != nil {
		return err
	}
	var others []doubt
	for _, d := range some {
		if shown[d.key] == (directory.AttrSet{}) {
			others = append(others, d)
		}
	}
	for id := range v.often.All() {
		if err := ask(some, directory.Attrs(id)); err != nil {
			return err
		}
	}
	if len(others) == 0 {
		return nil
	}
	for id := range mostly.All() {
		if err := ask(others, directory.Attrs(id)); err != nil {
			return err
		}
	}
	for _, d := range others {
		if shown[d.key] != (directory.AttrSet{}) { // one that shows nothing may be gone
			v.often = v.often.Union(mostly.Without(shown[d.key]))
		}
	}
	return nil
}
