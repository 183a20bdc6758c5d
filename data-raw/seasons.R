# The demo world of treatment over time: crews store their catch with the co-operative in some of four seasons. Who is in
# debt stores more, storing pays off debt, and debt weighs on savings: an ordinary regression that holds debt fixed loses
# what storing does through it, one that leaves debt out is biased by it. Some crews leave before the end.
# Usage: Rscript data-raw/seasons.R, in the source folder.
set.seed(20261129)
periods <- 4L

# The course of n crews. history: NULL for what they would do themselves, or a 0/1 for each season.
course <- function(n, history = NULL, leave = TRUE) {
  boat_length <- round(pmax(5, stats::rnorm(n, 10, 2.5)), 1)
  port_size <- sample(c("small", "medium", "large"), n, TRUE, c(0.4, 0.4, 0.2))
  skill <- stats::rnorm(n)
  debt <- pmax(0, 12 - 0.4 * (boat_length - 10) - 1.5 * skill + stats::rnorm(n, 0, 3))
  catch <- 20 + 1.2 * (boat_length - 10) + 2 * skill + stats::rnorm(n, 0, 3)
  before <- numeric(n)
  there <- rep(TRUE, n)
  rows <- list()
  stored_all <- numeric(n)
  for (t in seq_len(periods)) {
    chance <- stats::plogis(-1.1 + 0.13 * (debt - 10) - 0.05 * (catch - 20) + 1.4 * before + 0.04 * (boat_length - 10))
    stored <- if (is.null(history)) stats::rbinom(n, 1, chance) else rep(history[t], n)
    rows[[t]] <- data.frame(number = seq_len(n), season = 2020L + t, boat_length, port_size, debt = round(debt, 1),
                            catch = round(catch, 1), stored, there)
    stored_all <- stored_all + stored
    stays <- stats::runif(n) < stats::plogis(3.6 - 0.08 * (debt - 10) + 0.4 * stored)
    if (leave && t < periods) there <- there & stays
    catch <- 20 + 1.2 * (boat_length - 10) + 0.6 * (catch - 20) * 0.5 + 0.8 * stored + 1.2 * skill + stats::rnorm(n, 0, 3)
    debt <- pmax(0, 0.85 * debt + 1.2 - 1.6 * stored - 0.06 * (catch - 20) + stats::rnorm(n, 0, 2))
    before <- stored
  }
  savings <- 30 + 1.5 * stored_all - 0.9 * debt + 0.5 * (catch - 20) + 1.1 * (boat_length - 10) + 2 * skill +
    stats::rnorm(n, 0, 4)
  list(rows = do.call(rbind, rows), savings = savings)
}

n <- 2400L
made <- course(n)
seasons <- made$rows[made$rows$there, ]
seasons <- seasons[order(seasons$number, seasons$season), ]
seasons$savings <- ifelse(seasons$season == 2020L + periods, round(made$savings[seasons$number], 1), NA)
seasons <- data.frame(crew = sprintf("S%04d", seasons$number), seasons[c("season", "boat_length", "port_size", "debt",
                                                                       "catch", "stored", "savings")])
rownames(seasons) <- NULL

# Means over many crews that are all made to follow a history.
histories <- list(always = c(1, 1, 1, 1), never = c(0, 0, 0, 0), early = c(1, 1, 0, 0), late = c(0, 0, 1, 1))
seasons_truth <- data.frame(history = names(histories), seasons = vapply(histories, paste, "", collapse = "-"),
                            mean = vapply(histories, function(history) {
                              round(mean(course(4e6, history, leave = FALSE)$savings), 3)
                            }, 0), row.names = NULL)
for (name in c("seasons", "seasons_truth")) {
  data.table::fwrite(get(name), file.path("inst/extdata", paste0(name, ".csv")))
  save(list = name, file = file.path("data", paste0(name, ".rda")), compress = "xz", version = 2)
}
print(seasons_truth)
