// Package routes lists the routes of the program. A new one is one line here.
package routes

import (
	"vividstrain/core/route"
	"vividstrain/core/route/engine"
	"vividstrain/core/route/page"
	"vividstrain/core/route/program"
	"vividstrain/core/route/server"
	"vividstrain/core/route/simulated"
)

// All lists the routes.
var All = route.Registry{
	engine.Descriptor,
	server.Descriptor,
	page.Descriptor,
	program.Descriptor,
	simulated.Descriptor,
}
