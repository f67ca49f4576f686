package reconcile

import (
	"cmp"
	"slices"

	"yardbroom/internal/parallel"
)

// stated is an edge of the best assignment, and by how much the assignment
// would be worse without it, in thousandths of a bit.
type stated struct {
	person, account int32
	margin          int32
}

// Components of more nodes or edges than these are not solved: what they hold
// is in doubt.
const (
	mostNodes = 120
	mostEdges = 1500
)

// assign finds the assignment of people to accounts, one to one, of the
// greatest weight, and returns those of its edges without which it would be
// worse by least or more: the others have an alternative that is nearly as
// good. Weights are above zero; standing alone weighs nothing.
//
// An edge that weighs as much as the next best ones at both its ends together
// is in a best assignment, whatever the rest of it is. Such edges are taken
// first, which leaves small components; those are solved exactly.
func assign(edges []edge, least int32) []stated {
	g := newGraph(edges)
	out := g.takeDominant(least)
	components := g.components()
	solved := make([][]stated, len(components))
	parallel.Do(len(components), func(_, n int) { solved[n] = solve(components[n], least) })
	out = append(out, slices.Concat(solved...)...)
	slices.SortFunc(out, func(x, y stated) int { return cmp.Compare(x.person, y.person) })
	return out
}

// graph holds the edges at each person and account, the heaviest first.
type graph struct {
	edges     []edge
	byPerson  index
	byAccount index
	person    []bool // taken
	account   []bool
}

// index lists the edges at each node.
type index struct{ first, list []int32 }

func (x *index) of(node int32) []int32 { return x.list[x.first[node]:x.first[node+1]] }

func newIndex(edges []edge, node func(*edge) int32) index {
	nodes := int32(0)
	for i := range edges {
		nodes = max(nodes, node(&edges[i])+1)
	}
	x := index{make([]int32, nodes+1), make([]int32, len(edges))}
	for i := range edges {
		x.first[node(&edges[i])+1]++
	}
	for i := range nodes {
		x.first[i+1] += x.first[i]
	}
	next := slices.Clone(x.first)
	for i := range edges {
		n := node(&edges[i])
		x.list[next[n]] = int32(i)
		next[n]++
	}
	for n := range nodes {
		slices.SortFunc(x.of(n),
			func(i, j int32) int { return cmp.Or(cmp.Compare(edges[j].weight, edges[i].weight), cmp.Compare(i, j)) })
	}
	return x
}

func newGraph(edges []edge) *graph {
	g := &graph{
		edges:     edges,
		byPerson:  newIndex(edges, func(e *edge) int32 { return e.person }),
		byAccount: newIndex(edges, func(e *edge) int32 { return e.account }),
	}
	g.person, g.account = make([]bool, len(g.byPerson.first)), make([]bool, len(g.byAccount.first))
	return g
}

func (g *graph) gone(e int32) bool {
	return g.person[g.edges[e].person] || g.account[g.edges[e].account]
}

// nextBest is the weight of the heaviest edge of a list but one, 0 where there
// is none.
func (g *graph) nextBest(list []int32, but int32) int32 {
	for _, e := range list {
		if e != but && !g.gone(e) {
			return g.edges[e].weight
		}
	}
	return 0
}

// takeDominant takes the edges that outweigh the next best at both ends
// together by least, again and again, since each one taken makes room. What is
// taken does not depend on the order: whatever makes room only helps the rest.
func (g *graph) takeDominant(least int32) []stated {
	waiting := make([]bool, len(g.edges))
	queue := make([]int32, len(g.edges))
	for i := range queue {
		queue[i] = int32(i)
	}
	again := func(list []int32) {
		for _, e := range list {
			if waiting[e] && !g.gone(e) {
				waiting[e] = false
				queue = append(queue, e)
			}
		}
	}
	var taken []int32
	for len(queue) > 0 {
		at := queue[0]
		queue = queue[1:]
		if g.gone(at) {
			continue
		}
		e := &g.edges[at]
		if g.margin(at) < least {
			waiting[at] = true
			continue
		}
		taken = append(taken, at)
		g.person[e.person], g.account[e.account] = true, true
		for _, other := range g.byPerson.of(e.person) {
			again(g.byAccount.of(g.edges[other].account))
		}
		for _, other := range g.byAccount.of(e.account) {
			again(g.byPerson.of(g.edges[other].person))
		}
	}
	out := make([]stated, len(taken))
	for i, at := range taken {
		e := &g.edges[at]
		g.person[e.person], g.account[e.account] = false, false
		out[i] = stated{e.person, e.account, g.margin(at)}
		g.person[e.person], g.account[e.account] = true, true
	}
	return out
}

// margin is by how much an edge outweighs the next best ones at its ends.
func (g *graph) margin(at int32) int32 {
	e := &g.edges[at]
	return e.weight - g.nextBest(g.byPerson.of(e.person), at) - g.nextBest(g.byAccount.of(e.account), at)
}

// components parts what is left into pieces that no edge joins.
func (g *graph) components() [][]edge {
	seen := make([]bool, len(g.edges))
	var out [][]edge
	for i := range g.edges {
		if seen[i] || g.gone(int32(i)) {
			continue
		}
		var piece []edge
		stack := []int32{int32(i)}
		seen[i] = true
		for len(stack) > 0 {
			at := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			piece = append(piece, g.edges[at])
			for _, list := range [][]int32{g.byPerson.of(g.edges[at].person), g.byAccount.of(g.edges[at].account)} {
				for _, e := range list {
					if !seen[e] && !g.gone(e) {
						seen[e] = true
						stack = append(stack, e)
					}
				}
			}
		}
		slices.SortFunc(piece, byEnds)
		out = append(out, piece)
	}
	return out
}

// none stands for no edge and nobody.
const none = -1

// matching is an assignment within one component.
type matching struct {
	edges    []edge
	byPerson [][]int // edges at each person, by local numbers
	people   []int32
	accounts []int32
	from, to []int // of each edge, local numbers
	ofPerson []int // edge in the assignment
	ofAcc    []int
}

// solve finds the best assignment of a component, and the edges of it that
// stand out by least.
func solve(edges []edge, least int32) []stated {
	if len(edges) > mostEdges {
		return nil
	}
	m := newMatching(edges)
	if len(m.people)+len(m.accounts) > mostNodes {
		return nil
	}
	for p := range m.people {
		m.improve(p, none, none)
	}
	var out []stated
	for p := range m.people {
		e := m.ofPerson[p]
		if e < 0 {
			continue
		}
		if margin := m.without(e); margin >= least {
			out = append(out, stated{edges[e].person, edges[e].account, margin})
		}
	}
	return out
}

func newMatching(edges []edge) *matching {
	m := &matching{edges: edges, from: make([]int, len(edges)), to: make([]int, len(edges))}
	people, accounts := map[int32]int{}, map[int32]int{}
	for i, e := range edges {
		p, known := people[e.person]
		if !known {
			p = len(m.people)
			people[e.person] = p
			m.people = append(m.people, e.person)
			m.byPerson = append(m.byPerson, nil)
			m.ofPerson = append(m.ofPerson, -1)
		}
		a, known := accounts[e.account]
		if !known {
			a = len(m.accounts)
			accounts[e.account] = a
			m.accounts = append(m.accounts, e.account)
			m.ofAcc = append(m.ofAcc, -1)
		}
		m.from[i], m.to[i] = p, a
		m.byPerson[p] = append(m.byPerson[p], i)
	}
	return m
}

func (m *matching) weight() (sum int32) {
	for _, e := range m.ofPerson {
		if e >= 0 {
			sum += m.edges[e].weight
		}
	}
	return sum
}

// improve makes an assignment that is the best without a person the best with
// them: it changes along the alternating path from that person that gains
// most, if any gains. An edge and an account can be forbidden.
func (m *matching) improve(person, edge, account int) {
	const unreached = -1 << 30
	gain := make([]int32, len(m.people)) // of giving this person up, best so far
	by := make([]int, len(m.people))     // the edge over which the account was taken from them
	for i := range gain {
		gain[i], by[i] = unreached, none
	}
	gain[person] = 0
	bestGain, bestEdge, bestPerson := int32(0), none, person // standing alone
	for changed := true; changed; {
		changed = false
		for p := range m.people {
			if gain[p] == unreached {
				continue
			}
			for _, e := range m.byPerson[p] {
				if e == edge || m.to[e] == account || e == m.ofPerson[p] {
					continue
				}
				reached := gain[p] + m.edges[e].weight
				holds := m.ofAcc[m.to[e]]
				if holds < 0 {
					if reached > bestGain {
						bestGain, bestEdge, bestPerson = reached, e, none
					}
					continue
				}
				q := m.from[holds]
				if reached -= m.edges[holds].weight; reached > gain[q] && q != person {
					gain[q], by[q], changed = reached, e, true
				}
			}
		}
	}
	for p := range m.people { // somebody may be left alone
		if gain[p] > bestGain {
			bestGain, bestEdge, bestPerson = gain[p], none, p
		}
	}
	if bestGain <= 0 {
		return
	}
	if bestPerson >= 0 {
		m.ofPerson[bestPerson] = none
		bestEdge = by[bestPerson]
	}
	for e := bestEdge; e >= 0; {
		p := m.from[e]
		m.ofPerson[p], m.ofAcc[m.to[e]] = e, e
		if p == person {
			break
		}
		e = by[p]
	}
}

// without tells by how much the best assignment is worse if an edge of it is
// forbidden: what is left is the best without the edge's ends, and these are
// added again one after the other.
func (m *matching) without(e int) int32 {
	before := m.weight()
	rest := &matching{
		edges:    m.edges,
		byPerson: m.byPerson,
		people:   m.people,
		accounts: m.accounts,
		from:     m.from,
		to:       m.to,
		ofPerson: slices.Clone(m.ofPerson),
		ofAcc:    slices.Clone(m.ofAcc),
	}
	rest.ofPerson[m.from[e]], rest.ofAcc[m.to[e]] = none, none
	rest.improve(m.from[e], none, m.to[e])
	rest.improveAccount(m.to[e], e)
	return before - rest.weight()
}

// improveAccount is improve for an account: the same on the mirrored graph.
func (m *matching) improveAccount(account, edge int) {
	mirror := &matching{
		edges:    m.edges,
		people:   m.accounts,
		accounts: m.people,
		from:     m.to,
		to:       m.from,
		ofPerson: m.ofAcc,
		ofAcc:    m.ofPerson,
	}
	mirror.byPerson = make([][]int, len(m.accounts))
	for i := range m.edges {
		mirror.byPerson[m.to[i]] = append(mirror.byPerson[m.to[i]], i)
	}
	mirror.improve(account, edge, none)
}
