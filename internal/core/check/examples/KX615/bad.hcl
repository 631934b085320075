# file busy.html
frontend "web" {
  listen = "0.0.0.0:8080"
  errors {
    form = "problem"
    pages = {
      "503" = "busy.html" # want: no client of "web" ever gets busy.html | gets application/problem+json
    }
  }
  route "live" {
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
