package rehearse

import (
	"os"
	"time"

	"uparrot/core/perform/reach"
	"uparrot/core/procedure"
)

// network is the port of which what is to be reached in the network is told.
const network = "network"

// reaches are the steps in which something is to be reached in the network.
func (p *Play) reaches() (steps []string) {
	for _, s := range p.File.Steps {
		n := 0
		walk(s.Body, func(node procedure.Node) {
			if _, is := node.(*procedure.Reach); is {
				n++
			}
		})
		if n > 0 {
			steps = append(steps, s.Title)
		}
	}
	return steps
}

// unreached are modules that tell of a network in which nothing answers.
func (p *Play) unreached() (all []*mutant) {
	if steps := p.reaches(); len(steps) > 0 {
		on := &trigger{}
		all = append(all, &mutant{kind: ofAnswers, name: "cannot be reached", port: network, about: "what is to be reached", step: steps[0], touched: true, anyway: true,
			reach: func(what string, within time.Duration) (time.Duration, error) {
				on.n++
				time.Sleep(within)
				return within, &reach.Error{What: what, Within: within, Err: os.ErrDeadlineExceeded}
			},
			make: func() (tamper, *trigger) { return nil, on }})
	}
	return all
}

// slowly is a network in which all answers come as late as is allowed.
func (p *Play) slowly() (all []*habit) {
	if len(p.reaches()) > 0 {
		all = append(all, &habit{name: "it is reached as late as is allowed", port: network, accept: "a longer time: within", scene: trial{reach: func(_ string, within time.Duration) (time.Duration, error) {
			time.Sleep(within * 9 / 10)
			return within * 9 / 10, nil
		}}})
	}
	return all
}
