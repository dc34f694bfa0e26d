package engine

import (
	"slices"

	"hollowbridge/core/flowset"
	"hollowbridge/core/header"
)

// isItself is the fourth step: the destination is one of the gateway's own addresses, or an
// outside address of its rules, and nothing redirected it.
func (v *Visit) isItself() bool {
	return v.flow.In(flowset.Destination, &v.ownSet) || v.flow.IsClaimed(v.claims, nil, v.moment)
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
			v.note(StepItself, ServesItself, nil).Text = s.Name
			if v.keep(nil, true) {
				v.decision.Action, v.decision.Packet = Takes, v.flow.Now()
			}
			return
		}
	}
	v.note(StepItself, EndsItself, nil).Flag = own
	v.stop(Itself, StepItself, nil)
}
