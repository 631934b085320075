frontend "gate" {
  listen   = "0.0.0.0:7000"
  protocol = "tcp"
  route "all" { # want: "all" forwards TLS to "app", which encrypts it again
    when {
      sni = "gate.tern.example"
    }
    send_to = upstream.app
  }
}
upstream "app" {
  proxy_protocol = "v2"
  backends = {
    auk    = "192.0.2.11:7001"
    gannet = "192.0.2.12:7001"
  }
  probe "tcp" {
  }
  tls {
    verify = true
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
