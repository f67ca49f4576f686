package source

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"yardbroom/internal/directory"
	"yardbroom/internal/settings"
)

func TestHowManyEntriesAreAskedForAtOnce(t *testing.T) {
	known := []string{"objectClass", "MAIL", "1.1"}
	for what, c := range map[string]struct {
		dialect *directory.Dialect
		set     int
		most    int64
		query   Query
		want    int
	}{
		"what the tool looks at":     {directory.OpenLDAP, 0, 0, Query{Attributes: known}, slimPageSize},
		"names alone":                {directory.OpenLDAP, 0, 0, Query{NamesOnly: true, Attributes: []string{"*", "+"}}, slimPageSize},
		"everything":                 {directory.OpenLDAP, 0, 0, Query{}, defaultPageSize},
		"what may be large":          {directory.OpenLDAP, 0, 0, Query{Attributes: []string{"mail", "jpegPhoto"}}, defaultPageSize},
		"the first page alone":       {directory.OpenLDAP, 0, 0, Query{Attributes: known, FirstPage: true}, defaultPageSize},
		"without pages":              {directory.OpenLDAP, 0, 0, Query{Attributes: known, Unpaged: true}, defaultPageSize},
		"a server that caps them":    {directory.AD, 0, 0, Query{Attributes: known}, defaultPageSize},
		"one that has a limit":       {directory.NS389, 0, 0, Query{Attributes: known}, defaultPageSize},
		"set":                        {directory.OpenLDAP, 70, 0, Query{Attributes: known}, 70},
		"set, and refused":           {directory.OpenLDAP, 70, 35, Query{Attributes: known}, 35},
		"refused":                    {directory.OpenLDAP, 0, 1250, Query{Attributes: known}, 1250},
		"what may be large, refused": {directory.OpenLDAP, 0, 1250, Query{}, defaultPageSize},
	} {
		s := &Server{Dialect: c.dialect, target: Target{Yard: settings.Yard{PageSize: c.set}}}
		s.most.Store(c.most)
		assert.Equal(t, c.want, s.pageOf(&c.query), what)
	}
}
