// A mark by itself: whatever cannot be printed is found when it is uploaded.
#let data = json(bytes(sys.inputs.data))
#set document(title: "mark", date: datetime(year: 2026, month: 1, day: 1))
#let content = if data.mark.kind == "svg" { bytes(data.mark.text) } else { bytes(data.mark.bytes) }
#image(content, format: data.mark.kind, height: 16mm, width: 60mm, fit: "contain", alt: "mark")
