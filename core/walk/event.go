package walk

import (
	"hollowbridge/core/network"
)

var onInternet = network.Site{Machine: network.Place{Internet: true}}
