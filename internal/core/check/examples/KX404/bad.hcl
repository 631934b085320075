frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" { # want: in clear text | of 100 such clients 52
    send_to = upstream.app
  }
}
frontend "secure" {
  listen = "0.0.0.0:8443"
  # file tickets.pem tickets.key names=tickets.tern.example from=-10d until=300d mode=0600
  tls {
    certificate = "tickets.pem"
    key         = "tickets.key"
  }
  route "all" {
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path = "/ready"
  }
  sticky {
    by     = "cookie"
    secret = "a line that only the proxies know"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
