package filter

import "yardbroom/internal/directory"

// Chain is a condition on a chain of links: whether an entry reaches another
// by an attribute that names entries, over any number of entries between
// (MS-ADTS 3.1.1.3.4.4.3). It has to be told of all entries first.
type Chain struct {
	link   column
	back   *column // member is the way back of memberOf, and the other way round
	target directory.Key
	to     map[directory.Key][]directory.Key // for each name, those that have a link to it
	reach  map[directory.Key]bool
}

var ways = map[string]string{"member": "memberOf", "memberof": "member"}

func newChain(c column, target string) *Chain {
	chain := &Chain{link: c, target: directory.KeyOf(target), to: map[directory.Key][]directory.Key{}}
	if way := ways[c.name]; way != "" {
		kind := c.schema.Type(way)
		names := c.schema.Names(kind)
		chain.back = &column{name: kind.Name, names: names, ids: idsOf(names), kind: kind, schema: c.schema, loose: true}
	}
	return chain
}

// Attributes are what the chain has to be told of each entry.
func (c *Chain) Attributes() []string {
	names := []string{c.link.name}
	if c.back != nil {
		names = append(names, c.back.name)
	}
	return names
}

// Links are the links of one entry, apart from the chain, so that several
// processors can look at entries at once.
type Links [][2]directory.Key

// Links returns the links of an entry.
func (c *Chain) Links(e *directory.Entry) (links Links) {
	self := directory.Key{}
	own := func() directory.Key {
		if self == (directory.Key{}) {
			self = directory.KeyOf(e.DN)
		}
		return self
	}
	c.link.each(e,
		func(v string) bool { links = append(links, [2]directory.Key{own(), directory.KeyOf(v)}); return true })
	if c.back != nil {
		c.back.each(e,
			func(v string) bool { links = append(links, [2]directory.Key{directory.KeyOf(v), own()}); return true })
	}
	return links
}

// Tell takes the links of entries.
func (c *Chain) Tell(links Links) {
	for _, l := range links {
		c.to[l[1]] = append(c.to[l[1]], l[0])
	}
}

// Done works out who reaches the target, once all links are told.
func (c *Chain) Done() {
	c.reach = map[directory.Key]bool{}
	for todo := []directory.Key{c.target}; len(todo) > 0; {
		next := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		for _, from := range c.to[next] {
			if !c.reach[from] {
				c.reach[from] = true
				todo = append(todo, from)
			}
		}
	}
	c.to = nil
}

func (c *Chain) match(e *directory.Entry) Truth { return TruthOf(c.reach[directory.KeyOf(e.DN)]) }
