// Largeyard writes a demo yard of any size as LDIF to standard output, for
// measuring:
//
//	go run ./bench/largeyard -people 1000000 > large.ldif
package main

import (
	"flag"
	"fmt"
	"os"
	"time"

	"yardbroom/internal/demo"
)

func main() {
	people := flag.Int("people", 1_000_000, "how many people")
	flag.Parse()
	yard := demo.Yard{People: *people, AsOf: time.Now().Truncate(24 * time.Hour)}
	if err := yard.WriteLDIF(os.Stdout); err != nil {
		fmt.Fprintln(os.Stderr, "largeyard:", err)
		os.Exit(1)
	}
}
