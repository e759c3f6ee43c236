package cli

import "github.com/spf13/cobra"

func simCommand() *cobra.Command  { return &cobra.Command{Use: "sim", GroupID: groupService} }
func demoCommand() *cobra.Command { return &cobra.Command{Use: "demo", GroupID: groupService} }
