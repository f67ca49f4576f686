package carry

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// operation is what a kind of step does. The step itself is what the journal
// holds of it.
type operation interface {
	// describe says in one line what it does.
	describe() string
	// changes are what it changed, for people; what it only made sure of is none.
	changes() []batch.Change
}

// write is an operation on an entry of the directory.
type write interface {
	operation
	// send asks the server for it. The assertion holds what was read of the
	// entry's guarded attributes, "" where that is not to be tested.
	send(server *source.Server, assertion string) error
	// read reads back what it was about: an error that is source.ErrNotFound, or
	// nil, where that is not there.
	read(ctx context.Context, server *source.Server) (*directory.Entry, error)
	// effect compares what was read, nil for nothing, with what it was to do.
	effect(e *directory.Entry) effect
}

// operation is the step as its kind.
func (s *Step) operation() operation {
	switch s.Op {
	case OpModify:
		return modifying{s}
	case OpValues:
		return listing{s}
	case OpPassword:
		return resetting{s}
	case OpPermissions:
		return permitting{s}
	case OpRename:
		return renaming{s}
	case OpDelete:
		return deleting{s}
	case OpAdd:
		return adding{s}
	case OpReanimate:
		return reanimating{s}
	case OpSetAside:
		return settingAside{s}
	case OpPutHomeBack:
		return puttingBack{s}
	case OpArchiveHome:
		return archiving{s}
	case OpRemoveHome:
		return removing{s}
	}
	return unknown{s}
}

// write is the step as an operation on an entry.
func (s *Step) write() write {
	if w, ok := s.operation().(write); ok {
		return w
	}
	return unknown{s}
}

// readBack reads what a step was about. Nil means that it is not there.
func readBack(ctx context.Context, server *source.Server, s *Step) (*directory.Entry, error) {
	e, err := s.write().read(ctx, server)
	if errors.Is(err, source.ErrNotFound) {
		return nil, nil
	}
	return e, err
}

// effectOf compares an entry, nil for none, with what a step was to do to it.
func effectOf(s *Step, e *directory.Entry) effect { return s.write().effect(e) }

// byIdentity reads the entry of a step, or by its name where the step knows no
// identity.
func (s *Step) byIdentity(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	if s.ID == "" {
		return s.byName(ctx, server)
	}
	return server.ByIdentity(ctx, string(s.ID))
}

func (s *Step) byName(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	found, err := server.Get(ctx, []string{s.DN})
	if len(found) != 1 {
		return nil, err
	}
	return &found[0], nil
}

func (s *Step) entry() source.Entry { return source.Entry{DN: s.DN, ID: string(s.ID)} }

// leaf is what to call the entry of a step.
func (s *Step) leaf() string { return directory.LeafValue(s.DN) }

// modifying exchanges values of an entry's own attributes.
type modifying struct{ *Step }

func (o modifying) send(server *source.Server, assertion string) error {
	return server.Modify(o.entry(), o.exchanged(), assertion)
}

// exchanged are its changes as they are sent. The old value is deleted by name, so that
// the server refuses where it is no longer there.
func (o modifying) exchanged() []source.Change {
	changes := make([]source.Change, len(o.Mods))
	for i, m := range o.Mods {
		changes[i] = source.Change{Attr: m.Attr, Delete: batch.Plain(m.Old), Add: batch.Plain(m.New)}
	}
	return changes
}

func (o modifying) read(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	return o.byIdentity(ctx, server)
}

func (o modifying) effect(e *directory.Entry) effect {
	if e == nil {
		return effectOther
	}
	return effectOfMods(o.Mods, e)
}

func (o modifying) describe() string {
	var parts []string
	for _, m := range o.Mods {
		c := batch.ChangeOf(m)
		if c.Old == c.New {
			parts = append(parts, fmt.Sprintf("make sure that %s of %s is still %s", c.What, o.leaf(), c.Old))
			continue
		}
		parts = append(parts, fmt.Sprintf("%s of %s: %s → %s", c.What, o.leaf(), c.Old, c.New))
	}
	return strings.Join(parts, "; ")
}

func (o modifying) changes() (all []batch.Change) {
	for _, m := range o.Mods {
		if c := batch.ChangeOf(m); c.Old != c.New {
			all = append(all, c)
		}
	}
	return all
}

// listing takes single values out of an entry's lists, and puts single ones in.
type listing struct{ *Step }

func (o listing) send(server *source.Server, _ string) error {
	changes := make([]source.Change, len(o.Values))
	for i, v := range o.Values {
		changes[i] = source.Change{Attr: v.Attr, Delete: present(v.Remove), Add: present(v.Add)}
	}
	return server.Modify(o.entry(), changes, "")
}

// present is a list of the value, or of none.
func present(v batch.Octets) []string {
	if v == "" {
		return nil
	}
	return []string{string(v)}
}

func (o listing) read(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	var values []source.Value
	for _, v := range o.Values {
		for _, value := range []batch.Octets{v.Remove, v.Add} {
			if value != "" {
				values = append(values, source.Value{Attr: v.Attr, Value: string(value)})
			}
		}
	}
	return server.Lists(ctx, string(o.ID), values...)
}

func (o listing) effect(e *directory.Entry) effect {
	if e == nil {
		return effectOther
	}
	for _, v := range o.Values {
		if v.Remove != "" && hasValue(e.Get(v.Attr), string(v.Remove)) ||
			v.Add != "" && !hasValue(e.Get(v.Attr), string(v.Add)) {
			return effectNone
		}
	}
	return effectDone
}

func (o listing) describe() string {
	var parts []string
	for _, v := range o.Values {
		if v.Remove != "" {
			parts = append(parts, fmt.Sprintf("%s of %s without %s", v.Attr, o.leaf(), v.Remove))
		}
		if v.Add != "" {
			parts = append(parts, fmt.Sprintf("%s of %s with %s", v.Attr, o.leaf(), v.Add))
		}
	}
	return strings.Join(parts, "; ")
}

func (o listing) changes() (all []batch.Change) {
	for _, v := range o.Values {
		switch o.Action {
		case batch.JoinGroup:
			all = append(all, batch.JoinsGroup(o.DN))
		case batch.LeaveGroup, batch.LeaveGroups:
			all = append(all, batch.LeavesGroup(o.DN))
		default:
			all = append(all, batch.Exchanges(v.Attr, o.DN, string(v.Remove), string(v.Add)))
		}
	}
	return all
}

// resetting sets a password.
type resetting struct{ *Step }

func (o resetting) send(server *source.Server, _ string) error {
	return server.SetPassword(o.entry(), o.secret, replacements(o.Mods))
}

func replacements(mods []batch.Mod) []source.Replacement {
	all := make([]source.Replacement, len(mods))
	for i, m := range mods {
		all[i] = source.Replacement{Attr: m.Attr, Values: batch.Plain(m.New)}
	}
	return all
}

func (o resetting) read(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	return o.byIdentity(ctx, server)
}

func (o resetting) effect(e *directory.Entry) effect {
	if e == nil {
		return effectOther
	}
	return effectOfPassword(o.Step, e)
}

func (o resetting) describe() string { return "a new password for " + o.leaf() }

func (o resetting) changes() []batch.Change {
	return []batch.Change{batch.SetsPassword("(a new one, delivered)")}
}

// renaming gives an entry another name, or another place.
type renaming struct{ *Step }

func (o renaming) send(server *source.Server, assertion string) error {
	return server.Rename(o.entry(), o.RDN, o.Superior, assertion)
}

func (o renaming) read(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	return o.byIdentity(ctx, server)
}

func (o renaming) effect(e *directory.Entry) effect {
	if e == nil {
		return effectOther
	}
	switch directory.FoldDN(e.DN) {
	case directory.FoldDN(o.target()):
		return effectDone
	case directory.FoldDN(o.DN):
		return effectNone
	}
	return effectOther
}

func (o renaming) describe() string { return fmt.Sprintf("move %s to %s", o.leaf(), o.target()) }

func (o renaming) changes() []batch.Change {
	return []batch.Change{batch.Moves(o.DN, o.target())}
}

// deleting deletes an entry.
type deleting struct{ *Step }

func (o deleting) send(server *source.Server, assertion string) error {
	return server.Delete(o.entry(), assertion)
}

func (o deleting) read(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	return o.byIdentity(ctx, server)
}

func (o deleting) effect(e *directory.Entry) effect {
	if e == nil {
		return effectDone
	}
	return effectNone
}

func (o deleting) describe() string { return "delete " + o.DN }

func (o deleting) changes() []batch.Change {
	return []batch.Change{batch.Deletes(o.DN)}
}

// adding makes an entry anew.
type adding struct{ *Step }

func (o adding) send(server *source.Server, _ string) error {
	attributes := make([]directory.Attribute, len(o.Attrs))
	for i, a := range o.Attrs {
		attributes[i] = directory.Attribute{Name: a.Name, Values: batch.Plain(a.Values)}
	}
	return server.Add(o.DN, attributes)
}

func (o adding) read(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	return o.byName(ctx, server)
}

func (o adding) effect(e *directory.Entry) effect {
	if e == nil {
		return effectNone
	}
	return effectOfAdd(o.Attrs, e)
}

func (o adding) describe() string { return "add " + o.DN }

func (o adding) changes() []batch.Change {
	return []batch.Change{batch.Adds(o.DN)}
}

// reanimating brings a deleted object back to life.
type reanimating struct{ *Step }

func (o reanimating) send(server *source.Server, _ string) error {
	set := replacements(o.Mods)
	for _, a := range o.Attrs {
		set = append(set, source.Replacement{Attr: a.Name, Values: batch.Plain(a.Values)})
	}
	return server.Reanimate(o.DN, o.target(), set, o.Marked)
}

func (o reanimating) read(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	if o.ID == "" {
		return o.byName(ctx, server)
	}
	return server.ByIdentityOrDeleted(ctx, string(o.ID))
}

func (o reanimating) effect(e *directory.Entry) effect {
	switch {
	case e == nil:
		return effectOther
	case e.First("isDeleted") == "TRUE":
		return effectNone
	case directory.FoldDN(e.DN) == directory.FoldDN(o.target()):
		return effectDone
	}
	return effectOther
}

func (o reanimating) describe() string { return "bring back " + o.target() }

func (o reanimating) changes() []batch.Change {
	return append(modifying(o).changes(), batch.BringsBack(o.target()))
}

// unknown is a kind of step that this program does not know. It is never sent,
// and nothing shows whether it was done.
type unknown struct{ *Step }

func (o unknown) send(*source.Server, string) error { return fmt.Errorf("unknown step %q", o.Op) }

func (o unknown) read(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	return o.byIdentity(ctx, server)
}

func (o unknown) effect(*directory.Entry) effect { return effectHidden }
func (o unknown) describe() string               { return string(o.Op) }
func (o unknown) changes() (none []batch.Change) { return nil }
