frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    when {
      path = ["/live/**", not("/lives/**")] # want: path not(/lives/**) of the route "live" | nothing that the rest matches is excluded by it
    }
    send_to = upstream.app
  }
  route "rest" {
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
