package cli

func standinCommand() *command { return &command{name: "standin"} }
func serveCommand() *command   { return &command{name: "serve"} }
func demoCommand() *command    { return &command{name: "demo"} }
