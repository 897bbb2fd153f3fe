"""From a face's marks to what moves it: lids, jaw, lips, expressions."""
