// Command describe writes the API's description (OpenAPI 3.1), from which the console's types are made.
package main

import (
	"encoding/json"
	"fmt"
	"os"

	"oakenlatch/service/api"
)

func main() {
	out := json.NewEncoder(os.Stdout)
	out.SetIndent("", " ")
	out.SetEscapeHTML(false)
	if err := out.Encode((&api.API{}).OpenAPI()); err != nil {
		fmt.Fprintln(os.Stderr, "describe:", err)
		os.Exit(1)
	}
}
