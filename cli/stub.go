package cli

import "github.com/spf13/cobra"

func (a *app) serveCommand() *cobra.Command    { return &cobra.Command{Use: "serve"} }
func (a *app) demoCommand() *cobra.Command     { return &cobra.Command{Use: "demo"} }
func (a *app) templateCommand() *cobra.Command { return &cobra.Command{Use: "template"} }
func (a *app) peopleCommand() *cobra.Command   { return &cobra.Command{Use: "people"} }
func (a *app) packageCommand() *cobra.Command  { return &cobra.Command{Use: "package"} }
