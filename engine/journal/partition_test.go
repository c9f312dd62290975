package journal

import (
	"fmt"
	"testing"
)

// Values are spread evenly, each always to the same partition, and what all may do together is shared out.
func TestPartitionsShare(t *testing.T) {
	counts := map[int]int{}
	for i := range 30_000 {
		n := Partition{Of: 3}.Holding(fmt.Sprintf("card FER-%06d", i))
		if n != (Partition{This: 2, Of: 3}).Holding(fmt.Sprintf("card FER-%06d", i)) {
			t.Fatal("two partitions do not agree")
		}
		counts[n]++
	}
	for n := range 3 {
		if counts[n] < 9_500 || counts[n] > 10_500 {
			t.Errorf("partition %d has %d of 30000", n, counts[n])
		}
	}
	for _, of := range []int{1, 2, 3, 8} {
		for all := range 20 {
			sum := 0
			for n := range of {
				sum += Partition{n, of}.Share(all)
			}
			if sum != all {
				t.Errorf("%d among %d are %d", all, of, sum)
			}
		}
	}
	if !(Partition{}).Whole() || !(Partition{Of: 1}).Whole() || (Partition{Of: 2}).Whole() || (Partition{}).Share(7) != 7 {
		t.Error("one alone is not the whole")
	}
}
