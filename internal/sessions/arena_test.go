package sessions

import (
	"math/rand/v2"
	"reflect"
	"testing"
	"unsafe"

	"hollowbridge/internal/netfile/netfiletest"
)

// Whatever is taken and given back, what is taken is zero, nobody else has it, and what was given back is
// taken again.
func TestAnArenaHandsOutZeroesThatNobodyElseHas(t *testing.T) {
	for seed := range netfiletest.Few(uint64(40), 15) {
		random := rand.New(rand.NewPCG(seed, 59))
		var a arena
		var taken [][]uint64
		for number := uint64(1); number < 300; number++ {
			if len(taken) > 0 && random.IntN(3) == 0 {
				i := random.IntN(len(taken))
				give(&a, taken[i])
				taken[i] = taken[len(taken)-1]
				taken = taken[:len(taken)-1]
				continue
			}
			slice := take[uint64](&a, 1+random.IntN(1<<(1+random.IntN(14))))
			for i := range slice {
				if slice[i] != 0 {
					t.Fatalf("seed %d: %d is not zero", seed, slice[i])
				}
				slice[i] = number
			}
			taken = append(taken, slice)
		}
		for _, slice := range taken {
			for i := range slice {
				if slice[i] != slice[0] {
					t.Fatalf("seed %d: two have the same memory", seed)
				}
			}
		}
	}
	var a arena
	first := take[uint64](&a, leastRegion/8)
	give(&a, first)
	if again := take[uint64](&a, leastRegion/8); &again[0] != &first[0] {
		t.Error("what was given back is not taken again")
	}
}

// The garbage collector does not look into an arena, so nothing that lies there may point anywhere.
func TestNothingInAnArenaPoints(t *testing.T) {
	var points func(reflect.Type) bool
	points = func(what reflect.Type) bool {
		switch what.Kind() {
		case reflect.Array:
			return points(what.Elem())
		case reflect.Struct:
			for i := range what.NumField() {
				if points(what.Field(i).Type) {
					return true
				}
			}
			return false
		case reflect.Bool, reflect.Int16, reflect.Int32, reflect.Int64, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
			return false
		}
		return true
	}
	for _, value := range []any{entry[four]{}, entry[six]{}, use[four]{}, use[six]{}, tableSlot{}} {
		if what := reflect.TypeOf(value); points(what) {
			t.Errorf("%s has pointers", what)
		}
	}
	if size := unsafe.Sizeof(entry[four]{}); size != 2*line {
		t.Errorf("a session of IPv4 takes %d bytes, and not two lines", size)
	}
	if size := unsafe.Sizeof(use[four]{}); 2*size != line {
		t.Errorf("a use of IPv4 takes %d bytes, and not half a line", size)
	}
	if !points(reflect.TypeFor[group[four]]()) { // lies elsewhere for that reason
		t.Error("pointers are not found")
	}
}
