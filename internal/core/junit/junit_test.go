package junit

import (
	"slices"
	"strings"
	"testing"
)

func TestRead(t *testing.T) {
	s, err := Read(strings.NewReader(`<?xml version="1.0"?><testsuites tests="99"><testsuite name="a">
		<testcase classname="a.B" name="good"><system-out>failure</system-out></testcase>
		<testcase classname="a.B" name="bad"><failure message="no">trace</failure><failure/></testcase>
		<testcase name="worse"><error/></testcase><testcase name="later"><skipped/></testcase></testsuite>
		<testsuite><failure/><testcase name="flaky"><rerunFailure/></testcase></testsuite></testsuites>`))
	if err != nil || s.Tests != 5 || s.Failed != 1 || s.Errors != 1 || s.Skipped != 1 ||
		!slices.Equal(s.Names, []string{"a.B.bad", "worse"}) || s.Passed() {
		t.Errorf("%+v, %v", s, err)
	}
	good, err := Read(strings.NewReader(`<testsuite><testcase name="x"/></testsuite>`))
	if err != nil || !good.Passed() {
		t.Errorf("%+v, %v", good, err)
	}
	good.Add(s)
	if good.Tests != 6 || good.Passed() {
		t.Errorf("together: %+v", good)
	}
	for _, text := range []string{"", "nothing", "<project/>", "<testsuite><testcase>",
		strings.Repeat("<testsuite>", 200)} {
		if s, err := Read(strings.NewReader(text)); err == nil {
			t.Errorf("%.40q: %+v", text, s)
		}
	}
	if none := (Summary{Tests: 3, Skipped: 3}); none.Passed() {
		t.Error("tests that were skipped passed")
	}
}

func FuzzRead(f *testing.F) {
	f.Add(`<testsuite><testcase name="x"><failure/></testcase></testsuite>`)
	f.Fuzz(func(t *testing.T, text string) {
		if s, err := Read(strings.NewReader(text)); err == nil && s.Failed+s.Errors+s.Skipped > s.Tests {
			t.Errorf("%q: %+v", text, s)
		}
	})
}
