package engine

import (
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
)

// passesBy is the fourth step: what is for one of the gateway's own addresses, or for an outside address of its rules, ends at the
// gateway: nothing redirected it.
func (v *Visit) passesBy() (goes bool) {
	if v.flow.In(flowset.Destination, &v.ownSet) || v.flow.IsClaimed(v.claims, nil, v.moment) {
		v.itself()
		return false
	}
	return true
}

// itself answers what the gateway serves on the interface; everything else ends here.
func (v *Visit) itself() {
	if v.part != header.Begins {
		v.note(StepItself, AnswerItself, nil)
		v.stop(Dropped, StepItself, nil)
		return
	}
	own := v.flow.In(flowset.Destination, &v.ownSet)
	for i := range v.Serves {
		if s := &v.Serves[i]; own && slices.Contains(s.On, v.in) && v.flow.IsFor(s.Services) {
			v.note(StepItself, ServesItself, nil).Service = s.Name
			if v.keep(nil, true) {
				v.take()
			}
			return
		}
	}
	v.note(StepItself, EndsItself, nil).IsOwn = own
	v.stop(Itself, StepItself, nil)
}
