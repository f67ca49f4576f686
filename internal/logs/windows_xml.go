package logs

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// mostValues is how many values an event may have: none of Windows' own has fifty.
const mostValues = 200

// readXML reads one exported event, from <Event to </Event>.
func readXML(text []byte) (*record, error) {
	r := &record{data: map[string]string{}}
	dec := xml.NewDecoder(bytes.NewReader(text))
	dec.Strict = true
	// Files in other encodings were read as what they are before.
	dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	var name, field string
	var value strings.Builder
	depth := 0
	for {
		token, err := dec.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, err
		}
		switch t := token.(type) {
		case xml.StartElement:
			if depth++; depth > 20 {
				return nil, errors.New("elements nest too deep")
			}
			name, field = t.Name.Local, ""
			value.Reset()
			for _, a := range t.Attr {
				switch {
				case name == "TimeCreated" && a.Name.Local == "SystemTime":
					if r.at, err = time.Parse(time.RFC3339Nano, a.Value); err != nil {
						return nil, fmt.Errorf("SystemTime: %w", err)
					}
					r.at = r.at.UTC()
				case name == "Data" && a.Name.Local == "Name":
					field = a.Value
				}
			}
		case xml.CharData:
			value.Write(t)
		case xml.EndElement:
			depth--
			switch text := value.String(); {
			case name == "EventID":
				if r.id, err = strconv.Atoi(strings.TrimSpace(text)); err != nil {
					return nil, fmt.Errorf("EventID: %w", err)
				}
			case name == "Computer":
				r.computer = strings.TrimSpace(text)
			case name == "Data" && field != "":
				if len(r.data) == mostValues {
					return nil, errors.New("too many values")
				}
				r.data[strings.ToLower(field)] = text
			}
			name = ""
		}
	}
	if r.id == 0 || r.at.IsZero() {
		return nil, errors.New("an event without EventID or TimeCreated")
	}
	return r, nil
}
