"""Tables as people have them: text, workbooks, databases; found in their files by names and labels."""
