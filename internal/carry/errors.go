package carry

// localError is a cause on this machine, which says nothing of the line: it stays
// open.
type localError struct{ error }

func (e localError) Unwrap() error { return e.error }

// lostError is a connection that was lost while nothing was written. The line
// keeps its state.
type lostError struct{ error }

func (e lostError) Unwrap() error { return e.error }

// journalError is a record that could not be written.
type journalError struct{ error }
