package engine

// SplitFrom sets from where on an explorer splits tables.
func (x *Explorer) SplitFrom(conditions int) { x.splitFrom = conditions }
