frontend "web" {
  listen = "0.0.0.0:443"
  # file acme/tickets.tern.example acme/tickets.tern.example names=tickets.tern.example from=-80d until=10d mode=0600
  tls {
    acme {
      names        = ["tickets.tern.example"] # want: the certificate for tickets.tern.example in acme is not renewed | it expires on
      directory    = "https://ca.tern.example/directory"
      storage      = "acme"
      terms_agreed = true
    }
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
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
