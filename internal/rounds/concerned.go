package rounds

import (
	"context"
	"slices"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
	"yardbroom/internal/work"
)

// concerned are the mail addresses of whom findings concern, by the folded DN of
// the entry, for each way to find them.
type concerned map[settings.Each]map[string][]string

// concerns are the attributes of an entry that name whom it concerns.
var concerns = map[settings.Each][]string{
	settings.EachManager: work.Relations.Manager,
	settings.EachOwner:   work.Relations.Owner,
}

// mostConcerned is for how many entries it is found out, at most.
const mostConcerned = 20_000

// whom finds out whom findings concern, for the ways that the round asks for.
func whom(ctx context.Context, from source.Source, ways []settings.Each, findings []audit.Finding) (concerned, error) {
	out := concerned{}
	if len(ways) == 0 {
		return out, nil
	}
	var dns []string
	for i := range findings {
		if f := &findings[i]; f.AboutEntry() {
			dns = append(dns, f.DN)
		}
	}
	slices.Sort(dns)
	dns = slices.Compact(dns)
	dns = dns[:min(len(dns), mostConcerned)]
	book, err := work.Addresses(ctx, from, dns)
	if err != nil {
		return nil, err
	}
	for _, way := range ways {
		out[way] = map[string][]string{}
		for _, dn := range dns {
			for _, c := range book.Named(dn, concerns[way]) {
				out[way][directory.FoldDN(dn)] = append(out[way][directory.FoldDN(dn)], c.Address)
			}
		}
	}
	return out, nil
}

// ways are those by which the round wants to know whom findings concern.
func ways(r *settings.Round) (all []settings.Each) {
	for _, t := range r.Tell {
		if t.Each != "" && !slices.Contains(all, t.Each) {
			all = append(all, t.Each)
		}
	}
	return all
}
