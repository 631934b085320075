frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" { # want: "all" forwards the client's host, and the certificate of "app" is for app.inside.example | for app.inside.example
    send_to = upstream.app
  }
}
upstream "app" {
  # file inside-ca.pem
  backends = {
    auk    = "192.0.2.11:8080"
    gannet = "192.0.2.12:8080"
  }
  probe "http" {
    path = "/ready"
  }
  tls {
    ca   = "inside-ca.pem"
    name = "app.inside.example"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
