frontend "web" { # want: there are requests that match none | GET http://tern.example/x matches no route
  listen = "0.0.0.0:8080"
  route "start" {
    when {
      path = ["/", "/assets/**"]
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
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
