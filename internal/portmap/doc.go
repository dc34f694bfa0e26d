// Package portmap lets programs open ports at a gateway by the open protocols: PCP (RFC 6887),
// NAT-PMP (RFC 6886) and UPnP IGD. The messages are in folders of their own: pcp, natpmp, ssdp, igd.
//
// A Server answers at a running gateway. Whatever the protocol, a request becomes a wish (wish.go),
// which the policy of the network file and what is there already decide about (grant.go); the
// mappings that come of it live in a table (table.go), which hands them to the gateway's backend
// and its state before anybody is told. A Client asks (client.go, clientudp.go, clientigd.go).
package portmap
