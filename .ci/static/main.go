// Static fails where an ELF program asks for an interpreter or shared libraries.
package main

import (
	"debug/elf"
	"fmt"
	"os"
)

func main() {
	f, err := elf.Open(os.Args[1])
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	defer f.Close()
	libraries, err := f.ImportedLibraries()
	interpreter := false
	for _, p := range f.Progs {
		interpreter = interpreter || p.Type == elf.PT_INTERP
	}
	if interpreter || len(libraries) > 0 {
		fmt.Printf("%s is not static: interpreter %v, libraries %v, %v\n", os.Args[1], interpreter, libraries, err)
		os.Exit(1)
	}
	fmt.Printf("%s is static\n", os.Args[1])
}
