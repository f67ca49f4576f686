package carry

// localError is a cause on this machine, which says nothing of the line: it stays
// open.
type localError struct{ error }

func (e localError) Unwrap() error { return e.error }

// lostError is a connection that was lost while nothing was written. The line
// keeps its state.
type lostError struct{ error }

func (e lostError) Unwrap() error { return e.error }

// journalError is a record that could not be written, which ends the batch for now.
type journalError struct{ error }

func (e journalError) Unwrap() error { return e.error }

func (e journalError) Error() string {
	return e.error.Error() + ": nothing is done that cannot be written down; mend that and apply again, it goes on where it stopped"
}
