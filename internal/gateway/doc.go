// Package gateway runs one gateway of a network: it puts revisions of the network file into
// force, remembers them, and says what the gateway is doing and did.
//
// A Service stands on a Backend, which carries the rules into force: the engine itself
// (simulated.go), or the kernel of the machine (kernel.go). What it remembers stands in one
// SQLite file (state.go): revisions, what rules have counted, and events. It is asked and told
// what to do over HTTP (server.go, client.go); wire.go is what goes over it, and
// docs/control-api.yaml describes it.
//
// Packets are decided about by many goroutines and wait for nobody: events go to a queue that
// is bounded (journal.go) and are counted as lost where it is full. Whatever changes what is in
// force is done one at a time, under Service.changing.
package gateway
