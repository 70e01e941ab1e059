// Describe prints the OpenAPI document, from which the console's types are made.
package main

import (
	"fmt"
	"os"

	"arithmon/internal/app/api"
)

func main() {
	b, err := api.DescriptionJSON()
	if err == nil {
		_, err = os.Stdout.Write(b)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
