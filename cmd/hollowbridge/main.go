// Hollowbridge traces connections through gateways.
package main

import (
	"os"
	"runtime/debug"

	"hollowbridge/internal/cli"
)

func main() {
	debug.SetGCPercent(200) // it runs for seconds: memory is there, time is not
	os.Exit(cli.Run(os.Args[1:], cli.System()))
}
