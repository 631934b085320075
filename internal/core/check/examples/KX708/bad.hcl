frontend "web" {
  listen = "0.0.0.0:8080"
  # file tickets.pem tickets.key names=tickets.tern.example from=-10d until=300d mode=0644
  tls {
    certificate = "tickets.pem"
    key         = "tickets.key" # want: every user of this machine can read | 0644
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
