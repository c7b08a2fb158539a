document.title = "Wobbet"
