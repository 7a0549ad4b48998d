package report_test

import (
	"fmt"
	"os"
	"strings"
	"time"

	"uparrot/core/report"
	"uparrot/core/verdict"
)

// The forms of a report, and a suite of test cases that did not come of a record.
func Example() {
	fmt.Println(strings.Join(report.Forms(), " "))
	s := report.NewJUnit("tray", "bench-2", time.Date(2026, 11, 2, 7, 30, 0, 0, time.UTC), 1500)
	s.Add("", "LK-0001", verdict.Passed, "", 700)
	s.Add("", "LK-0002", verdict.Failed, "power reads 9", 800)
	if err := s.Write(os.Stdout); err != nil {
		fmt.Println(err)
	}
	// Output:
	// html junit csv text hex pcapng markdown
	// <?xml version="1.0" encoding="UTF-8"?>
	// <testsuites>
	//   <testsuite package="uparrot" id="0" name="tray" timestamp="2026-11-02T07:30:00" hostname="bench-2" tests="2" failures="1" errors="0" time="1.500">
	//     <properties></properties>
	//     <testcase classname="tray" name="LK-0001" time="0.700"></testcase>
	//     <testcase classname="tray" name="LK-0002" time="0.800">
	//       <failure message="power reads 9" type="failed">power reads 9</failure>
	//     </testcase>
	//     <system-out></system-out>
	//     <system-err></system-err>
	//   </testsuite>
	// </testsuites>
}
