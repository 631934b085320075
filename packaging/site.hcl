# The first configuration. It answers GET /alive on this machine, and nothing else, until it is
# changed. The tutorial begins with: kestrix new ADDRESS...
access_log {
  to = "/var/log/kestrix/access.log"
}

# kestrix status, watch and tell ask here; root and the user kestrix may.
control {
}

frontend "local" {
  listen = "127.0.0.1:9910"
  route "alive" {
    when {
      path = "/alive"
    }
    reply {
      status       = 200
      body         = "alive\n"
      content_type = "text/plain"
    }
  }
  route "other" {
    reply {
      status = 404
    }
  }
}
