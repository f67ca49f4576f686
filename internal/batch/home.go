package batch

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"yardbroom/internal/directory"
	"yardbroom/internal/homes"
	"yardbroom/internal/source"
)

// homeAttributes name home folders.
var homeAttributes = []string{"homeDirectory", "unixHomeDirectory"}

// ReadHomes reads whose homes are where, in the whole directory.
func ReadHomes(
	ctx context.Context, from source.Source, d *directory.Dialect, shares []homes.Share,
) (*homes.Owners, error) {
	id := d.Identity.String()
	type home struct{ id, name, value string }
	var all []home
	sel := source.Selection{
		Filter:     "(|(homeDirectory=*)(unixHomeDirectory=*))",
		Attributes: append([]string{id, "objectClass"}, homeAttributes...),
	}
	err := from.Each(ctx, sel, func() { all = nil },
		func(e *directory.Entry) any {
			var found []home
			for _, attr := range homeAttributes {
				for _, v := range e.Get(attr) {
					found = append(found, home{strings.Clone(e.First(id)), strings.Clone(e.DN), strings.Clone(v)})
				}
			}
			return found
		},
		func(made any) { all = append(all, made.([]home)...) })
	if err != nil {
		return nil, fmt.Errorf("reading whose homes are where: %w", err)
	}
	owners := homes.NewOwners(shares)
	for _, h := range all {
		owners.Add(h.id, h.name, h.value)
	}
	owners.Sort()
	return owners, nil
}

// ErrNoHomes is the error where the settings map no home folders.
var ErrNoHomes = errors.New("the settings of the yard map no home folders (homes), so none can be set aside")

// HomeOf finds the home folder of an account on this machine, as it would be
// set aside at some time, or says why it must not be touched.
func HomeOf(
	d *directory.Dialect, e *directory.Entry, shares []homes.Share, owners *homes.Owners, at time.Time,
) (homes.Place, error) {
	var none homes.Place
	values := []string{}
	for _, attr := range homeAttributes {
		if len(e.Get(attr)) > 1 {
			return none, fmt.Errorf("it has several values of %s", attr)
		}
		if v := e.First(attr); strings.TrimSpace(v) != "" {
			values = append(values, v)
		}
	}
	if len(values) == 0 {
		return none, fmt.Errorf("the directory names no home folder of it: %w", homes.ErrAbsent)
	}
	var home homes.Home
	var unmapped error
	found := false
	for _, v := range values {
		h, err := homes.Locate(shares, v)
		switch {
		case errors.Is(err, homes.ErrUnmapped):
			unmapped = err
			continue
		case err != nil:
			return none, fmt.Errorf("its home folder: %w", err)
		case found && !h.Same(home):
			return none, fmt.Errorf("it has two home folders, %s and %s", home.Value, h.Value)
		}
		home, found = h, true
	}
	if !found {
		return none, fmt.Errorf("its home folder: %w", unmapped)
	}
	if logon := e.First(d.Logon.String()); !home.Named(logon) {
		return none, fmt.Errorf("its home folder %s does not end in its logon name %s", home.Value, logon)
	}
	if why := owners.Conflict(home, e.First(d.Identity.String())); why != "" {
		return none, errors.New(why)
	}
	place, err := homes.Find(home, at)
	if err != nil {
		return none, fmt.Errorf("its home folder: %w", err)
	}
	return place, nil
}

// setHomeAside stages that the home folder of an account is renamed into the
// holding folder. It must not be anybody's who can sign in.
func (s *Stager) setHomeAside(
	ctx context.Context, e *directory.Entry, a *directory.Account, o *Order, line *Line,
) error {
	if !a.Kind.IsAccount() {
		return fmt.Errorf("%s is for accounts only", SetHomeAside)
	}
	if !s.disabled(a, o) && !line.Has(Disable) {
		return fmt.Errorf("it is enabled; %s comes behind disable", SetHomeAside)
	}
	if len(s.Homes) == 0 {
		return ErrNoHomes
	}
	if s.owners == nil {
		var err error
		if s.owners, err = ReadHomes(ctx, s.From, s.Dialect, s.Homes); err != nil {
			return err
		}
	}
	place, err := HomeOf(s.Dialect, e, s.Homes, s.owners, o.At)
	if errors.Is(err, homes.ErrAbsent) && !s.alone {
		return nil // there is more to do with it
	}
	if err != nil {
		return err
	}
	hold := s.Settings.Batch.HomeHold
	line.Actions = append(line.Actions, Action{Name: SetHomeAside, Home: &place})
	line.Changes = append(line.Changes, MovesHome(text(place.String()), text(place.Held)))
	line.Warnings = append(
		line.Warnings,
		"the home folder is held for "+hold.String()+"; \"yardbroom stage "+ArchiveHome+"\" then makes an archive of it and removes it",
	)
	return nil
}
