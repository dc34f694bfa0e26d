package flowset

// A Value is what a set gives to a connection. A set of which only one thing is asked, whether a connection is in it, gives 1.
type Value int

// None is the value of what is not in a set.
const None Value = 0

// Numbered is the value of what is for member n of a list, counted from 0.
func Numbered(n int32) Value { return Value(n) + 1 }

// Number returns which member of the list it is, where v is the value of one.
func (v Value) Number() int32 { return int32(v - 1) }

// marked is what Mark adds to values, which are less.
const marked Value = 1 << 29

// Marked returns the value that Mark makes of one.
func (v Value) Marked() Value { return v | marked }

// Most is the largest value that can be marked.
const Most = marked - 1
