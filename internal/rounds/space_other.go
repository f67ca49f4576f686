//go:build !unix

package rounds

import "errors"

// freeSpace is not known on this system.
func freeSpace(string) (uint64, error) { return 0, errors.ErrUnsupported }
