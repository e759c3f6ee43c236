package unit_test

import (
	"fmt"

	"ullage/core/unit"
)

// Units convert by their SenML or UCUM symbols, and as people write them.
func ExampleConvert() {
	kelvin, _ := unit.Convert(21.4, "Cel", "K")
	fmt.Printf("%.2f K\n", kelvin)
	_, err := unit.Convert(21.4, "Cel", "kPa")
	fmt.Println(err)
	// Output:
	// 294.55 K
	// °C (temperature) does not convert to kPa (pressure)
}
