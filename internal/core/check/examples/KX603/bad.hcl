frontend "web" {
  listen = "0.0.0.0:8080"
  route "live" {
    when {
      path = "/seat/**"
    }
    rewrite { # want: Location: /seats/1 reaches the client as /seats/1, which this route does not match | Location: /seats/1
      substitute = { "/seat/([0-9]+)" = "/seats/$1" }
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
