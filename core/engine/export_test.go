package engine

// SplitFrom makes an explorer look at tables of so many conditions block by block.
func (x *Explorer) SplitFrom(conditions int) { x.splitFrom = conditions }
