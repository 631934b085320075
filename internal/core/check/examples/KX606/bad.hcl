frontend "gate" {
  listen   = "0.0.0.0:7000"
  protocol = "tcp"
  route "all" {
    when {
      sni = "gate.tern.example"
    }
    send_to = upstream.app
  }
}
upstream "app" { # want: the backends of "app" do not learn the address of clients
  backends = {
    auk    = "192.0.2.11:7001"
    gannet = "192.0.2.12:7001"
  }
  probe "tcp" {
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
