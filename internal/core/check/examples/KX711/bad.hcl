frontend "web" {
  listen = "0.0.0.0:8080"
  route "all" {
    rewrite {
      host = "app.inside.example"
    }
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
  tls {
    verify = false # want: are not verified | any certificate is accepted
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
