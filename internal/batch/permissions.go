package batch

import (
	"context"
	"errors"
	"slices"
	"strings"

	"yardbroom/internal/directory"
	"yardbroom/internal/source"
)

// unmark plans to take the mark of a privileged entry off one that is privileged no
// more, and to let its access list inherit again. Directories of the `ad` schema
// set both on members of protected groups, and take neither back (MS-ADTS
// 3.1.1.6.1.2).
func (s *Stager) unmark(ctx context.Context, e *directory.Entry, line *Line) error {
	if s.Dialect != directory.AD {
		return errors.New("this kind of directory keeps no mark of privileged entries")
	}
	server, live := s.From.(*source.Server)
	if !live {
		return errors.New("its permissions must be read from the directory itself: stage this with the yard, not with a file or a kept survey")
	}
	var put []Mod
	if mark := e.Get("adminCount"); len(mark) > 0 && !slices.Equal(mark, []string{"0"}) {
		put = append(put, Mod{Attr: "adminCount", Old: OctetsOf(mark)})
	}
	list, err := server.AccessList(ctx, e.DN)
	if err != nil {
		return err
	}
	inherits, err := directory.InheritsPermissions(list)
	if err != nil {
		return errors.New("its permissions cannot be read")
	}
	if !inherits {
		open, err := directory.InheritPermissions(list, true)
		if err != nil {
			return err
		}
		put = append(put, Mod{Attr: directory.AttrSecurityDescriptor, Old: []Octets{Octets(list)}, New: []Octets{Octets(open)}})
	}
	switch {
	case len(put) == 0:
		return already("it is not marked as privileged, and inherits permissions")
	case !e.Has("adminCount"):
		return errors.New("it is not marked as privileged; that it inherits no permissions is somebody's own choice")
	}
	line.Actions = append(line.Actions, Action{Name: Unmark, Put: put})
	for _, m := range put {
		line.Changes = append(line.Changes, ChangeOf(m))
	}
	return nil
}

// stillPrivileged tells why an entry must keep its mark, "" where it need not: the
// directory would mark it again, and until then its permissions would be open.
func (f *Footprint) stillPrivileged(l *Line) string {
	if groups := merge(f.Powers, f.Given); l.Has(Unmark) && len(groups) > 0 {
		return "it is privileged by " + strings.Join(groups, " and ") + ", and the directory would mark it again: take it out of that first, in a batch of its own"
	}
	return ""
}

// PermissionsDrift compares the access list of an entry, which is read where a guard is
// about it, with that guard. It returns what is different, "" where it holds.
func PermissionsDrift(guards []Guard, read func() (string, error)) (string, error) {
	i := slices.IndexFunc(guards, func(g Guard) bool { return g.Rule == Permissions })
	if i < 0 {
		return "", nil
	}
	now, err := read()
	was := string(guards[i].Values[0])
	switch {
	case err != nil:
		return "", err
	case now == "":
		return "its permissions cannot be read now", nil
	case directory.SamePermissions(now, was):
		return "", nil
	case readablePermissions(now) != readablePermissions(was):
		return "its permissions are " + readablePermissions(now) + " now, they were " + readablePermissions(was), nil
	}
	return "its permissions were changed since this was staged", nil
}

// readablePermissions says of a security descriptor what Unmark changes of it.
func readablePermissions(descriptor string) string {
	switch inherits, err := directory.InheritsPermissions(descriptor); {
	case err != nil:
		return "unreadable"
	case inherits:
		return "inherited"
	}
	return "not inherited"
}
