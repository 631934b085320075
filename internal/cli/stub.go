package cli

func demoCommand() *command { return &command{name: "demo"} }
