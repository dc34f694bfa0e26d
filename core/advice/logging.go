package advice

import "hollowbridge/core/network"

func (x *exam) logging() {
	for _, g := range x.net.Gateways {
		look := func(r *network.Rule, busy bool) {
			switch {
			case !r.Log || r.Off():
			case !g.Logging.Enabled:
				x.rule(network.LogWithoutLogging, r, "the logging of "+g.Name+" is off; set logging: {enabled: true}", x.change(r, network.Setting{Key: network.KeyLog, Value: ""}))
			case busy:
				x.rule(network.BusyLog, r, "it matches every service from everybody", x.change(r, network.Setting{Key: network.KeyLog, Value: ""}))
			}
		}
		for _, r := range g.NAT {
			look(&r.Rule, r.Does == network.SourceNAT && r.From.IsAny() && r.To.IsAny())
		}
		for _, r := range g.Filter {
			look(&r.Rule, r.From.IsAny() && len(r.Services) == 0)
		}
	}
}
