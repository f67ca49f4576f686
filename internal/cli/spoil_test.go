package cli

import "yardbroom/internal/ldif"

// Whoever keeps a string of what was read from a file finds it gone.
func init() { ldif.Spoil = true }
