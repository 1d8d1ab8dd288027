// Command describe writes what is made from the API's routes: its description (OpenAPI 3.1), from which the console's
// types are made, and with the argument go the calls of the Go client.
package main

import (
	"encoding/json"
	"fmt"
	"os"

	"oakenlatch/service/api"
)

func main() {
	var err error
	if len(os.Args) > 1 && os.Args[1] == "go" {
		err = writeGo(os.Stdout, (&api.API{}).Operations())
	} else {
		out := json.NewEncoder(os.Stdout)
		out.SetIndent("", " ")
		out.SetEscapeHTML(false)
		err = out.Encode((&api.API{}).OpenAPI())
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "describe:", err)
		os.Exit(1)
	}
}
