package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"vividstrain/core/route/simulated"
	"vividstrain/report/model"
)

func (a *app) devicesCommand() *cli.Command {
	return command(&cli.Command{
		Name:  "devices",
		Usage: "list the simulated devices, or print one",
		Flags: []cli.Flag{jsonFlag()},
		Commands: []*cli.Command{command(&cli.Command{
			Name: "show", Usage: "print a device's profile as YAML, to be edited and given back with --device FILE",
			ArgsUsage: "NAME", Flags: []cli.Flag{jsonFlag()}, Action: a.showDevice,
		}, "vividstrain devices show skerry-s1", "vividstrain devices show breakwater-n5 > mine.yaml")},
		Action: a.listDevices,
	}, "vividstrain devices", "vividstrain devices show skerry-s1", "vividstrain climb --device skerry-s1")
}

func (a *app) listDevices(_ context.Context, c *cli.Command) error {
	if err := noArguments(c); err != nil {
		return err
	}
	profiles, err := simulated.BuiltIn()
	if err != nil {
		return err
	}
	list := []model.DeviceLine{}
	for _, p := range profiles {
		list = append(list, model.DeviceLine{Name: p.Slug(), Title: p.Name, About: p.About, Spec: p.Spec})
	}
	if c.Bool("json") {
		return a.printJSON(list)
	}
	return a.print(a.style(c).Draw(model.Devices(list)))
}

func (a *app) showDevice(_ context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usagef("which device? vividstrain devices lists them")
	}
	p, err := simulated.Named(c.Args().First())
	if err != nil {
		return usage(err)
	}
	text, err := p.YAML()
	if err != nil {
		return err
	}
	return a.printYAML(c, text)
}
