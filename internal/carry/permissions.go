package carry

import (
	"context"
	"slices"

	"yardbroom/internal/batch"
	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// permitting exchanges values of an entry's own attributes, and its access list with
// them.
type permitting struct{ *Step }

// rules is the change of the access list.
func (o permitting) rules() (m batch.Mod) {
	if i := slices.IndexFunc(o.Mods, batch.Mod.Permissions); i >= 0 {
		m = o.Mods[i]
	}
	return m
}

// values are the other changes.
func (o permitting) values() *Step {
	s := *o.Step
	s.Mods = slices.DeleteFunc(slices.Clone(o.Mods), batch.Mod.Permissions)
	return &s
}

func (o permitting) send(server *source.Server, _ string) error {
	return server.Permit(o.entry(), modifying{o.values()}.exchanged(), string(o.rules().New[0]))
}

// read reads the entry and, as a value of it, its access list.
func (o permitting) read(ctx context.Context, server *source.Server) (*directory.Entry, error) {
	e, err := o.byIdentity(ctx, server)
	if err != nil || e == nil {
		return e, err
	}
	list, err := server.AccessList(ctx, e.DN)
	if err != nil {
		return nil, err
	}
	with := e.Clone()
	with.Set(directory.AttrSecurityDescriptor, list)
	return &with, nil
}

// effect compares the access list by its own rules: what is inherited the server fills
// in.
func (o permitting) effect(e *directory.Entry) effect {
	if e == nil {
		return effectOther
	}
	now, m := e.First(directory.AttrSecurityDescriptor), o.rules()
	rules := effectOther
	switch {
	case now == "":
		return effectHidden
	case directory.SamePermissions(now, string(m.New[0])):
		rules = effectDone
	case directory.SamePermissions(now, string(m.Old[0])):
		rules = effectNone
	}
	if values := o.values(); len(values.Mods) > 0 && effectOfMods(values.Mods, e) != rules {
		return effectOther
	}
	return rules
}

func (o permitting) describe() string        { return modifying(o).describe() }
func (o permitting) changes() []batch.Change { return modifying(o).changes() }

// permissionsDrift tells whether somebody else has changed the access list that a line
// is to change. A copy of a directory holds none.
func (w *worker) permissionsDrift(ctx context.Context, guards []batch.Guard, e *directory.Entry, past *history) (string, error) {
	if w.OnCopy || past.done(batch.Unmark) || past.done(batch.Mark) {
		return "", nil
	}
	return batch.PermissionsDrift(guards, func() (string, error) { return w.server.AccessList(ctx, e.DN) })
}

// markBack stages that an entry is marked as privileged again, or no longer, with the
// permissions that it had.
func markBack(l *batch.Line, s *pastStep) {
	a := batch.Action{Name: batch.Mark}
	if s.Action == batch.Mark {
		a.Name = batch.Unmark
	}
	for _, m := range s.Mods {
		a.Put = append(a.Put, m.Inverse())
		l.Guard = append(l.Guard, m.Guard(m.New))
		l.Changes = append(l.Changes, batch.ChangeOf(m.Inverse()))
	}
	l.Actions = append(l.Actions, a)
}
