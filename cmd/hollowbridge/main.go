// Hollowbridge traces connections through gateways.
package main

import (
	"os"

	"hollowbridge/internal/cli"
)

func main() {
	keepToMemory()
	os.Exit(cli.Run(os.Args[1:], cli.System()))
}
