// Package flowset holds exact sets of connections.
//
// A set is a reduced, ordered decision diagram over the fields of a connection: protocol,
// destination, port, source, source port, and the moment. A node asks for one field and has an edge for
// each stretch of its values; a path from the root to a terminal is a box of connections.
// Terminals are numbers, so that a diagram is a set (0 and 1) or gives each connection a
// value, as "the first rule it meets" or "the route it takes".
//
// Moments are numbers, of as many as a space is made for: what they mean is for whoever made it to say. Where
// there is only one, no set asks for it.
//
// A Space keeps the unique table, by which equal nodes are stored once, and the computed
// cache of operations on them. So two sets are equal if and only if they are the same
// number, and an operation on two sets costs at most the product of their nodes' edges,
// mostly about their sum. What a diagram can't hold shortly are relations between fields
// (a destination equal to the source), and conditions on low bits of an address, which
// are many stretches.
//
// What happens to packets on their way is written down as Terms: each field is a field of
// the connection as it was sent plus a distance, or a constant. Preimage returns which
// connections of a set come to some set after that, so that a way through a network is
// followed with a set as with a packet.
//
// Sources: R. E. Bryant, Graph-Based Algorithms for Boolean Function Manipulation, IEEE
// Transactions on Computers, 1986 (reduced ordered diagrams, unique table, apply); M. G.
// Gouda and A. X. Liu, Structured firewall design, Computer Networks, 2007 (diagrams whose
// edges are intervals of header fields); P. Kazemian, G. Varghese and N. McKeown, Header
// space analysis, NSDI 2012 (networks as functions on sets of headers).
package flowset
