frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    when {
      path = "/live/" # want: does not match /live | answered with 404
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
