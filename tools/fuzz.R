# All bad values in all places (tests/testthat/helper-fuzz.R). Usage: Rscript tools/fuzz.R [verbs, a pattern]
# Prints what is not refused by a classed error and not listed in tests/testthat/fuzz-accepted.csv.
suppressMessages({
  library(carefultwin)
  library(testthat)
})
setwd("tests/testthat")
env <- new.env(parent = asNamespace("carefultwin"))
for (file in list.files(".", "^helper-")) sys.source(file, env)
calls <- suppressWarnings(env$fuzz_calls())
values <- env$bad_values()
places <- env$fuzz_places(calls, values)
asked <- commandArgs(TRUE)
if (length(asked) > 0L) places <- places[grepl(asked[1L], places$verb), ]
parts <- split(places, seq_len(nrow(places)) %% 200L)
found <- parallel::mclapply(parts, function(part) env$run_fuzz(part, calls, values), mc.cores = 2L,
                            mc.preschedule = FALSE)
lost <- !vapply(found, is.data.frame, NA)
found <- do.call(rbind, found[!lost])
known <- utils::read.csv("fuzz-accepted.csv", colClasses = "character", na.strings = character())
key <- function(table) paste(table$verb, table$arg, table$value, sep = "|")
bad <- found[found$result != "error" & !(found$result == "accepted" & key(found) %in% key(known)), ]
cat(sprintf("%d places, %d refused, %d known uses, %d processes lost\n", nrow(found), sum(found$result == "error"),
            sum(found$result == "accepted") - sum(bad$result == "accepted"), sum(lost)))
if (nrow(bad) > 0L) print(transform(bad, result = substr(result, 1, 120)), row.names = FALSE)
places <- env$plan_places()
if (length(asked) > 0L) places <- places[grepl(asked[1L], paste("plan", places$part)), ]
folder <- env$plan_fuzz_folder()
settings <- env$plan_settings()
results <- unlist(parallel::mclapply(seq_len(nrow(places)), function(k) {
  env$try_plan_key(folder, places$part[k], places$key[k], places$value[k], settings)
}, mc.cores = 2L))
cat(sprintf("%d values of plan keys, %d refused, %d processes lost\n", nrow(places), sum(results == "error"),
            nrow(places) - length(results)))
raw <- which(startsWith(as.character(results), "raw"))
if (length(raw) > 0L) print(data.frame(places[raw, ], result = substr(results[raw], 1, 120)), row.names = FALSE)
quit(status = as.integer(nrow(bad) > 0L || any(lost) || length(raw) > 0L || length(results) < nrow(places)))
