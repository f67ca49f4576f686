//go:build !unix

package rounds

import "errors"

// FreeSpace is not known on this system.
func FreeSpace(string) (uint64, error) { return 0, errors.ErrUnsupported }
