window.addEventListener("load", () => {
  window.SwaggerUIBundle({ url: "/api/openapi.json", dom_id: "#swagger", deepLinking: true, validatorUrl: null });
});
