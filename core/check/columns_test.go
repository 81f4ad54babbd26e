package check

import (
	"slices"
	"testing"
)

// What was carried on stands beside what it came from, and a value that must not ship has a row without it.
func TestTheLineUpHoldsWhatWasCarriedOn(t *testing.T) {
	s := wire(t, "hivelog", "bellhanger", "treadmark")
	rows := LineUp(s.input(), nil, s.records)
	number := ""
	for _, r := range rows {
		if r.Service == "bellhanger" && r.What == "App number" {
			number = r.Cells["service"].Value
		}
	}
	if number == "" {
		t.Fatal("what is issued for the whole registration has no row")
	}
	rows = Supplied(rows, []Feed{
		{Service: "bellhanger", Title: "App number", Value: number, Column: "hosted builder", Has: Cell{Value: number + "0", Where: "Shellwright: Messages: Push app number"}},
		{Service: "thornmill", Environment: "production", Title: "Messaging key", Column: "second service", Has: Cell{Value: Kept}},
		{Service: "gatepost", Environment: "production", Title: "Client secret", Column: "second service", Has: Cell{Note: "the service has another value than is supplied now"}},
	})
	rows = Backend(rows, []BackendValue{
		{Service: "thornmill", Environment: "production", Title: "Messaging key", Name: "THORNMILL_MESSAGING_KEY", Cell: Cell{Value: "another value"}},
		{Service: "bellhanger", Title: "Sending key", Name: "BELLHANGER_SENDING_KEY", Cell: Cell{Value: Kept}},
	})
	odd := map[string][]string{}
	for _, r := range rows {
		if r.Identity == "" || !r.Agrees {
			odd[r.Subject()+" "+r.What] = r.Odd
		}
	}
	for what, want := range map[string][]string{"every identity Messaging key": {"backend's environment"}, "every identity Client secret": {"second service"}, "every identity Sending key": nil,
		"android example.larkfield.hivelog App number": {"hosted builder"}, "ios example.larkfield.hivelog App number": {"hosted builder"}} {
		if got, ok := odd[what]; !ok || !slices.Equal(got, want) {
			t.Errorf("%s: %v, and should be %v", what, got, want)
		}
	}
	if got := Held(rows); slices.Contains(got, "built package") || !slices.Contains(got, "hosted builder") {
		t.Errorf("%v", got)
	}
}
