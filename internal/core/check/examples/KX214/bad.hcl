frontend "web" {
  listen = "0.0.0.0:443"
  protocol = "tcp"
    route "live" {
      when {
        sni = "mail.tern.example"
      }
      send_to = upstream.app
    }
}
upstream "app" {
  proxy_protocol = "v2"
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" { # want: "live" forwards TLS to "app", whose probe is in clear text
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
