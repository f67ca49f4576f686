package settings

// Roster says how to read HR's lists of people, and how to match them.
type Roster struct {
	// Columns are further headers of a field, by its name.
	Columns map[string][]string `yaml:"columns"`
	// Status are further words for active, leave, left and future.
	Status map[string][]string `yaml:"status"`
	// Encoding is that of text files that say nothing of it; found out where it
	// is not set.
	Encoding string `yaml:"encoding"`
	Dates    string `yaml:"dates"` // iso, day-first, month-first or year-first, where dates leave it open
	Trust    string `yaml:"trust"` // dates: an end date in the past outweighs the status
	// IDAttributes hold the person id; employeeID and employeeNumber where none
	// are named.
	IDAttributes []string `yaml:"id_attributes"`
	// LocationAttribute is what the roster calls location; l where it is not
	// named.
	LocationAttribute string `yaml:"location_attribute"`
	// LogonPatterns are how logon names are made of names; learned where none
	// are set.
	LogonPatterns []string `yaml:"logon_patterns"`
	// MaxRows, MaxColumns and MaxSize (MB, unpacked) bound what is taken for a
	// roster; FetchWithin is how long reading a service may take.
	MaxRows     int  `yaml:"max_rows"`
	MaxColumns  int  `yaml:"max_columns"`
	MaxSize     int  `yaml:"max_size"`
	FetchWithin Wait `yaml:"fetch_within"`
}

// TrustDates is the value of Trust.
const TrustDates = "dates"
