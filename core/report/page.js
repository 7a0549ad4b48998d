"use strict";
(() => {
	const box = document.getElementById("search"), field = box.querySelector("input"), found = box.querySelector("output");
	box.hidden = false;
	let timer;
	const look = () => {
		const wanted = field.value.toLowerCase();
		let n = 0;
		for (const row of document.querySelectorAll("#lines tr")) {
			row.hidden = wanted !== "" && !row.textContent.toLowerCase().includes(wanted);
			if (!row.hidden) n++;
		}
		found.textContent = wanted === "" ? "" : n === 1 ? "1 line" : n + " lines";
	};
	field.addEventListener("input", () => { clearTimeout(timer); timer = setTimeout(look, 150); });
})();
