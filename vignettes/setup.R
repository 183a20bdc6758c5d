# What all articles share: plain text as a terminal shows it, figures of one size.
knitr::opts_chunk$set(comment = "", fig.width = 8.5, fig.height = 5.3, dpi = 80, dev = "ragg_png", warning = FALSE,
                      out.width = "100%", message = FALSE)
options(width = 80, cli.num_colors = 1L, progressr.enable = FALSE, carefultwin.knit = "text")
Sys.setenv(TZ = "UTC")
