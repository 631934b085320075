frontend "web" {
  listen = "0.0.0.0:8080"
  # file tickets.pem tickets.key names=tickets.tern.example from=-355d until=10d mode=0600
  tls {
    certificate = "tickets.pem" # want: the certificate tickets.pem expires soon | in
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
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
