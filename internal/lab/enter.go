package lab

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"syscall"

	"github.com/vishvananda/netlink"
)

// inside is set in the environment of the process that has namespaces of its own.
const inside = "HOLLOWBRIDGE_LAB"

// Inside reports whether the process has namespaces of its own.
func Inside() bool { return os.Getenv(inside) != "" }

// Forbidden is the error where a machine does not let the process make namespaces.
type Forbidden struct{ cause error }

func (f Forbidden) Error() string {
	return fmt.Sprintf("this machine does not let you make a network of your own (%v); an administrator allows it with a user.max_user_namespaces above 0, and without rules that restrict user namespaces, or runs it as root", f.cause)
}

// Again runs the program again, in namespaces of its own, and returns its exit status. They
// end with it, and it ends with this process, however that ends.
func Again(arguments []string, in, out, errors *os.File) (int, error) {
	return enter(0, arguments, in, out, errors)
}

// AgainWithFiles is Again, and gives the program a folder of its own in memory, Folder, once it
// has called OwnFolder: that ends with it too.
func AgainWithFiles(arguments []string, in, out, errors *os.File) (int, error) {
	return enter(syscall.CLONE_NEWNS, arguments, in, out, errors)
}

func enter(more uintptr, arguments []string, in, out, errors *os.File) (int, error) {
	runtime.LockOSThread() // the child is told of the death of the thread that began it
	defer runtime.UnlockOSThread()
	if os.Getuid() == 0 { // who may send the kernel larger messages then
		if status, err := again(more|syscall.CLONE_NEWNET, arguments, in, out, errors); err == nil {
			return status, nil
		} else if _, forbidden := err.(Forbidden); !forbidden {
			return status, err
		}
	}
	return again(more|syscall.CLONE_NEWUSER|syscall.CLONE_NEWNET, arguments, in, out, errors)
}

func again(flags uintptr, arguments []string, in, out, err *os.File) (int, error) {
	command := exec.Command("/proc/self/exe", arguments...)
	command.Env = append(os.Environ(), inside+"=1")
	command.Stdin, command.Stdout, command.Stderr = in, out, err
	command.SysProcAttr = &syscall.SysProcAttr{Cloneflags: flags, Pdeathsig: syscall.SIGKILL}
	if flags&syscall.CLONE_NEWUSER != 0 {
		command.SysProcAttr.UidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getuid(), Size: 1}}
		command.SysProcAttr.GidMappings = []syscall.SysProcIDMap{{ContainerID: 0, HostID: os.Getgid(), Size: 1}}
	}
	if err := command.Start(); err != nil {
		return 0, Forbidden{err}
	}
	var exit *exec.ExitError
	switch err := command.Wait(); {
	case err == nil:
		return 0, nil
	case errors.As(err, &exit) && exit.ExitCode() >= 0:
		return exit.ExitCode(), nil
	default:
		return 0, err
	}
}

// OwnFolder returns a folder in memory that ends with the process, which AgainWithFiles has begun.
// It takes the place of an empty folder that every machine has.
func OwnFolder() (string, error) {
	if err := syscall.Mount("", "/", "", syscall.MS_REC|syscall.MS_PRIVATE, ""); err != nil {
		return "", fmt.Errorf("a folder in memory: %w", err)
	}
	var wrong error
	for _, folder := range []string{"/mnt", "/srv", "/media", "/opt"} {
		if entries, err := os.ReadDir(folder); err != nil || len(entries) > 0 {
			continue
		}
		if wrong = syscall.Mount("lab", folder, "tmpfs", syscall.MS_NOSUID|syscall.MS_NODEV, "mode=0700"); wrong == nil {
			return folder, nil
		}
	}
	if wrong == nil {
		wrong = errors.New("/mnt, /srv, /media and /opt are missing or not empty")
	}
	return "", fmt.Errorf("a folder in memory: %w", wrong)
}

// Loopback makes a process that has namespaces of its own reach itself.
func Loopback() error {
	lo, err := netlink.LinkByName("lo")
	if err != nil {
		return err
	}
	return netlink.LinkSetUp(lo)
}

// Main runs tests in namespaces of their own, and returns their exit status. Where the machine
// forbids that, it says so in a line, and none are run.
func Main(run func() int) int {
	if Inside() {
		return run()
	}
	status, err := Again(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)
	if _, forbidden := err.(Forbidden); forbidden {
		fmt.Printf("SKIPPED: %v\n", err)
		return 0
	}
	if err != nil {
		fmt.Println(err)
		return 1
	}
	return status
}
