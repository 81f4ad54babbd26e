// Package all lists the simulated services.
package all

import (
	"ligare/standin/base"
	"ligare/standin/bellhanger"
	"ligare/standin/burrcatch"
	"ligare/standin/etchwork"
	"ligare/standin/fieldhide"
	"ligare/standin/gatepost"
	"ligare/standin/patchquay"
	"ligare/standin/shellwright"
	"ligare/standin/tallywick"
	"ligare/standin/thornmill"
	"ligare/standin/tollbarrow"
	"ligare/standin/treadmark"
)

// Services opens each service on a data file of its own.
var Services = map[string]func(file string) (*base.Service, error){
	"bellhanger": bellhanger.New, "burrcatch": burrcatch.New, "etchwork": etchwork.New, "fieldhide": fieldhide.New, "gatepost": gatepost.New, "patchquay": patchquay.New,
	"shellwright": shellwright.New, "tallywick": tallywick.New, "thornmill": thornmill.New, "tollbarrow": tollbarrow.New, "treadmark": treadmark.New,
}
