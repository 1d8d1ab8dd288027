// Command docs puts what the client answers on the tour, read from standard input, into the pages that are named.
package main

import (
	"fmt"
	"io"
	"os"

	"oakenlatch/test/tour"
)

func main() {
	if err := write(os.Args[1:]); err != nil {
		_, _ = fmt.Fprintln(os.Stderr, "docs:", err)
		os.Exit(1)
	}
}

func write(pages []string) error {
	said, err := io.ReadAll(os.Stdin)
	if err != nil {
		return err
	}
	transcript := tour.Transcript(string(said))
	for _, name := range pages {
		text, err := os.ReadFile(name)
		if err != nil {
			return err
		}
		list, compared := tour.Compare(string(text), transcript)
		fmt.Printf("%s: %d outputs compared, %d written anew\n", name, compared, len(list))
		now := tour.Rewrite(string(text), list)
		left, _ := tour.Compare(now, transcript)
		for _, d := range left {
			fmt.Printf("  to be changed by hand: %s\n", d.Command)
		}
		if err := os.WriteFile(name, []byte(now), 0o644); err != nil {
			return err
		}
	}
	return nil
}
