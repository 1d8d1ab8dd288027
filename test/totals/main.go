// Command totals reads the output of go test -json, prints what a person wants
// of it (failures whole, what was skipped and why, what a test begins with
// "tell: ", a line a package) and ends
// with the totals. Its exit status is 1 if anything failed.
package main

import (
	"bufio"
	"encoding/json"
	"fmt"
	"os"
	"strings"
)

type event struct {
	Action, Package, Test, Output string
	Elapsed                       float64
}

func main() {
	in := bufio.NewReaderSize(os.Stdin, 1<<20)
	output := map[string][]string{}
	passed, failed, skipped := 0, 0, 0
	dec := json.NewDecoder(in)
	for dec.More() {
		var e event
		if err := dec.Decode(&e); err != nil {
			fmt.Println("not go test -json:", err)
			os.Exit(1)
		}
		key := e.Package + " " + e.Test
		switch e.Action {
		case "output", "build-output":
			output[key] = append(output[key], e.Output)
			if told, ok := strings.CutPrefix(e.Output, "tell: "); ok {
				fmt.Print("      " + told)
			}
		case "pass":
			if e.Test != "" {
				passed++
			} else {
				fmt.Printf("ok    %-40s %6.1f s\n", e.Package, e.Elapsed)
			}
		case "skip":
			if e.Test != "" {
				skipped++
				fmt.Printf("skip  %s\n%s", key, strings.Join(output[key], ""))
			}
		case "fail", "build-fail":
			if e.Test != "" || e.Action == "build-fail" {
				failed++
			} else if e.Package != "" {
				fmt.Printf("FAIL  %s\n", e.Package)
			}
			fmt.Print(strings.Join(output[key], ""))
			if e.Test == "" && failed == 0 {
				failed++ // a package that failed outside its tests
			}
		}
		if e.Action != "output" && e.Action != "run" {
			delete(output, key)
		}
	}
	fmt.Printf("%d passed, %d failed, %d skipped\n", passed, failed, skipped)
	if failed > 0 || passed == 0 {
		os.Exit(1)
	}
}
