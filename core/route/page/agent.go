package page

import "strings"

// nameBrowser makes the browser's name and system of what it says of itself in facts (User-Agent,
// RFC 9110, 10.1.5), which is kept as "agent".
func nameBrowser(facts map[string]string) {
	agent, told := facts["browser"]
	if !told {
		return
	}
	delete(facts, "browser")
	facts["agent"] = agent
	products, system := "", ""
	for rest := agent; rest != ""; {
		before, after, comment := strings.Cut(rest, "(")
		products += before
		if !comment {
			break
		}
		words, more, _ := strings.Cut(after, ")")
		if system == "" {
			system = words
		}
		rest = more
	}
	if system != "" {
		facts["browser_system"] = system
	}
	// What nearly all browsers call themselves says nothing.
	const common = " Mozilla AppleWebKit Gecko KHTML, Safari Version Mobile "
	version := ""
	for _, product := range strings.Fields(products) {
		name, number, _ := strings.Cut(product, "/")
		number, _, _ = strings.Cut(number, ".")
		if name == "Version" {
			version = number
		}
		if !strings.Contains(common, " "+name+" ") {
			facts["browser"] = strings.TrimSpace(name + " " + number)
			return
		}
	}
	if version != "" {
		facts["browser"] = "Safari " + version
	}
}
