frontend "web" {
  listen = "0.0.0.0:8080"
  route "moved" {
    when {
      path = "/old/**"
    }
    redirect { # want: "moved" redirects to a target that has a doubled slash, which {path} brings along | 308 to http://tern.example//old
      to = "http://{host}/{path}"
    }
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
