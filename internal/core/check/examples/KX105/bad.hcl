frontend "web" {
  listen = "127.0.0.1:8080"
  route "all" {
    send_to = upstream.app
  }
  route "live" { # want: can never match | GET http://tern.example/live matches here, and goes to "all"
    when {
      path = "/live/**"
    }
    send_to = upstream.app
  }
}
upstream "app" {
  backends = {
    auk    = "127.0.0.1:9001"
    gannet = "127.0.0.1:9002"
  }
  probe "http" {
    path = "/ready"
  }
  retry {
    attempts = 2
    on       = ["connect"]
  }
}
