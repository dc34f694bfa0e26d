// Hollowbridge traces connections through gateways.
package main

import (
	"os"
	"runtime/debug"

	"hollowbridge/internal/cli"
)

// Near so many bytes the collector works more. An analysis that needs more says so, see flowset.TooLarge.
const memory = 2600 << 20

func main() {
	debug.SetMemoryLimit(memory)
	debug.SetGCPercent(200) // it runs for seconds: memory is there, time is not
	os.Exit(cli.Run(os.Args[1:], cli.System()))
}
