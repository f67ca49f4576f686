// Package pattern keeps regular expressions.
package pattern

import (
	"regexp"
	"sync"
)

// Lazy returns a regular expression that is compiled once it is used, and not by every
// command that starts. It panics then if it is none, as regexp.MustCompile does.
func Lazy(expr string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expr) })
}
