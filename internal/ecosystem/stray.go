package ecosystem

import "fmt"

// Overridden says which of some variables of the environment name an address that is
// not the server's: they go before what a client's files say.
func (f Files) Overridden(names ...string) (said []string) {
	for _, name := range names {
		if address, _, _ := Separate(f.Env(name)); address != "" && !f.Ours(address) {
			said = append(said, fmt.Sprintf("the variable %s is %s, and goes before every file: unset it", name, address))
		}
	}
	return said
}

// Alone says that a setting names an address that is not the server's; "" if it does
// not. Why is what follows from that.
func (f Files) Alone(file, setting, value, why string) []string {
	address, _, _ := Separate(f.Expand(value))
	if address == "" || f.Ours(address) {
		return nil
	}
	return []string{fmt.Sprintf("%s in %s is %s: %s", setting, file, address, why)}
}
