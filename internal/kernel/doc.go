// Package kernel makes a gateway of the network one of the Linux kernel's: it compiles the
// nine steps into tables of packet rules and puts them on a machine through netlink, the
// kernel's public interface (linux/netfilter/nf_tables.h, nfnetlink_conntrack.h).
//
// A list of rules becomes a chain for each pair of zones, or for each interface, that it is
// looked at for; a rule that is met sends the packet to a chain of its own, where it is
// counted, logged and decided about. docs/kernel.md says where the kernel differs.
package kernel
