// Largeyard writes a demo yard of any size as LDIF to standard output, and the roster of its
// people where one is wanted, for measuring:
//
//	go run ./bench/largeyard -people 1000000 -roster staff.csv > large.ldif
package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"time"

	"yardbroom/internal/demo"
)

func main() {
	people := flag.Int("people", 1_000_000, "how many people")
	roster := flag.String("roster", "", "where to write the roster")
	flag.Parse()
	if err := write(*people, *roster); err != nil {
		fmt.Fprintln(os.Stderr, "largeyard:", err)
		os.Exit(1)
	}
}

func write(people int, roster string) error {
	yard := demo.Yard{People: people, AsOf: time.Now().Truncate(24 * time.Hour)}
	err := yard.WriteLDIF(os.Stdout)
	if err != nil || roster == "" {
		return err
	}
	out, err := os.Create(roster)
	if err != nil {
		return err
	}
	return errors.Join(yard.WriteRoster(out), out.Close())
}
