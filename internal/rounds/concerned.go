package rounds

import (
	"context"
	"slices"
	"strings"

	"yardbroom/internal/audit"
	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
	"yardbroom/internal/source"
)

// concerned are the mail addresses of whom findings concern, by the folded DN of
// the entry, for each way to find them.
type concerned map[settings.Each]map[string][]string

// concerns are the attributes of an entry that name whom it concerns.
var concerns = map[settings.Each][]string{
	settings.EachManager: {"manager"},
	settings.EachOwner:   {"managedBy", "owner", "manager"},
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
	entries, err := from.Get(ctx, dns[:min(len(dns), mostConcerned)])
	if err != nil {
		return nil, err
	}
	var theirs []string
	for i := range entries {
		for _, way := range ways {
			for _, attr := range concerns[way] {
				theirs = append(theirs, entries[i].Get(attr)...)
			}
		}
	}
	slices.Sort(theirs)
	people, err := from.Get(ctx, slices.Compact(theirs))
	if err != nil {
		return nil, err
	}
	address := map[string]string{}
	for i := range people {
		if mail := people[i].First("mail"); strings.Contains(mail, "@") {
			address[directory.FoldDN(people[i].DN)] = mail
		}
	}
	for _, way := range ways {
		out[way] = map[string][]string{}
		for i := range entries {
			e := &entries[i]
			for _, attr := range concerns[way] {
				for _, dn := range e.Get(attr) {
					if mail := address[directory.FoldDN(dn)]; mail != "" {
						out[way][directory.FoldDN(e.DN)] = append(out[way][directory.FoldDN(e.DN)], mail)
					}
				}
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
