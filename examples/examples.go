// Package examples holds the example networks, which ship inside the program.
package examples

import "embed"

// Fernhollow is the network that demo writes and walks through.
//
//go:embed fernhollow
var Fernhollow embed.FS
