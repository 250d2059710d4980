using System.Security.Claims;
using System.Text.Json.Serialization;
using Imbrek.Data;
using Imbrek.Server.Features.Database;
using Imbrek.Server.Features.Evidence;
using Imbrek.Server.Features.Files;
using Imbrek.Server.Features.Fleet;
using Imbrek.Server.Features.Live;
using Imbrek.Server.Features.Notices;
using Imbrek.Server.Features.Plans;
using Imbrek.Server.Features.Recover;
using Imbrek.Server.Features.Runs;
using Imbrek.Server.Features.Setup;
using Imbrek.Server.Features.SignIn;
using Imbrek.Server.Features.TaskRuns;
using Imbrek.Server.Features.Timetable;
using Imbrek.Server.Security;
using Imbrek.Server.State;
using Microsoft.AspNetCore.Antiforgery;
using Microsoft.AspNetCore.DataProtection;
using Microsoft.AspNetCore.Identity;
using Microsoft.AspNetCore.ResponseCompression;
using NodaTime;
using NodaTime.Serialization.SystemTextJson;
using NodaTime.Text;

var builder = WebApplication.CreateBuilder(new WebApplicationOptions
{
    Args = args,
    WebRootPath = Environment.GetEnvironmentVariable("IMBREK_WEB") ?? "wwwroot",
});
var describing = System.Reflection.Assembly.GetEntryAssembly()?.GetName().Name == "GetDocument.Insider";
var connection = builder.Configuration["connection"] ?? Environment.GetEnvironmentVariable("IMBREK_CONNECTION");
if (connection is null && !describing)
{
    Console.Error.WriteLine("imbrek: say which PostgreSQL to use: --connection \"Host=…;Database=…;Username=…\"");
    return 2;
}

var demo = new DemoOptions(
    builder.Configuration["demo"] is { Length: > 0 } folder ? Path.GetFullPath(folder) : null,
    builder.Configuration.GetValue("demo-days", 35),
    builder.Configuration["demo-now"] is { Length: > 0 } handedOver ? InstantPattern.General.Parse(handedOver).GetValueOrThrow() : null);
var source = ImbrekDatabase.Source(connection ?? "Host=127.0.0.1");
builder.Logging.AddFilter("Microsoft.EntityFrameworkCore", LogLevel.Warning).AddFilter("Microsoft.AspNetCore", LogLevel.Warning)
    // Keys of cookies lie in PostgreSQL as everything else does; who can read them there can read all there is.
    .AddFilter("Microsoft.AspNetCore.DataProtection", LogLevel.Error);
builder.Services.AddSingleton(source);
builder.Services.AddDbContext<ImbrekContext>(o => ImbrekDatabase.Configure(o, source));
var protection = builder.Services.AddDataProtection().SetApplicationName("imbrek");
if (!describing)
{
    protection.PersistKeysToDbContext<ImbrekContext>();
}

builder.Services.AddIdentity<Person, IdentityRole>(o =>
{
    o.Password.RequiredLength = 12;
    o.Password.RequireNonAlphanumeric = false;
    o.Password.RequireUppercase = false;
    o.Password.RequireDigit = false;
    o.Lockout.MaxFailedAccessAttempts = 5;
    o.Lockout.DefaultLockoutTimeSpan = TimeSpan.FromMinutes(5);
}).AddEntityFrameworkStores<ImbrekContext>().AddClaimsPrincipalFactory<PersonClaims>();
builder.Services.ConfigureApplicationCookie(o =>
{
    o.Cookie.Name = "imbrek";
    o.Cookie.HttpOnly = true;
    o.Cookie.SameSite = SameSiteMode.Strict;
    o.ExpireTimeSpan = TimeSpan.FromHours(12);
    o.Events.OnRedirectToLogin = c => Problems.WriteAsync(c.HttpContext, 401, "not-signed-in", "", "Sign in first.");
    o.Events.OnRedirectToAccessDenied = c => Problems.WriteAsync(c.HttpContext, 403, "not-allowed", "", "Your role does not allow this.");
});
builder.Services.AddAuthorization(o =>
{
    foreach (var role in Roles.All)
    {
        o.AddPolicy(role, p => p.RequireAuthenticatedUser().RequireRole(Roles.Satisfying(role)));
    }

    // Whatever forgets to say which role it needs needs the highest.
    o.FallbackPolicy = o.GetPolicy(Roles.Administer);
});
builder.Services.AddAntiforgery(o =>
{
    o.HeaderName = "X-Imbrek-Token";
    o.Cookie.Name = "imbrek-token";
});
builder.Services.AddProblemDetails();
builder.Services.AddExceptionHandler<Problems>();
builder.Services.ConfigureHttpJsonOptions(o =>
{
    o.SerializerOptions.NumberHandling = JsonNumberHandling.Strict;
    o.SerializerOptions.ConfigureForNodaTime(DateTimeZoneProviders.Tzdb);
    o.SerializerOptions.Converters.Add(new JsonStringEnumConverter(System.Text.Json.JsonNamingPolicy.CamelCase));
});
builder.Services.AddOpenApi("v1", o => o.AddOperationTransformer((operation, context, _) =>
{
    // So that a reader of the file, and the walk through all endpoints, knows who may call what.
    var role = context.Description.ActionDescriptor.EndpointMetadata.OfType<NeededRole>().FirstOrDefault()?.Role;
    operation.Extensions ??= new Dictionary<string, Microsoft.OpenApi.IOpenApiExtension>();
    operation.Extensions["x-role"] = new Microsoft.OpenApi.JsonNodeExtension(System.Text.Json.Nodes.JsonValue.Create(role ?? "anonymous"));
    return Task.CompletedTask;
}).AddSchemaTransformer((schema, context, _) =>
{
    if (context.JsonTypeInfo.Type == typeof(Instant) || context.JsonTypeInfo.Type == typeof(Instant?))
    {
        schema.Type = context.JsonTypeInfo.Type == typeof(Instant)
            ? Microsoft.OpenApi.JsonSchemaType.String
            : Microsoft.OpenApi.JsonSchemaType.String | Microsoft.OpenApi.JsonSchemaType.Null;
        schema.Format = "date-time";
    }

    return Task.CompletedTask;
}));
builder.Services.AddResponseCompression(o =>
{
    o.EnableForHttps = true;
    o.Providers.Add<GzipCompressionProvider>();
    o.MimeTypes = [.. ResponseCompressionDefaults.MimeTypes, "image/svg+xml", "application/jsonl"];
});
builder.Services.Configure<Microsoft.AspNetCore.Http.Features.FormOptions>(o => o.MultipartBodyLengthLimit = FileEndpoints.MostBytes);
builder.Services.AddSingleton(demo);
builder.Services.AddSingleton<ProductClock>();
builder.Services.AddSingleton<IClock>(s => s.GetRequiredService<ProductClock>());
builder.Services.AddSingleton<FleetState>();
builder.Services.AddSingleton<WebhookReceiver>();
builder.Services.AddSingleton<RunHealth>();
builder.Services.AddSingleton<DesignedState>();
builder.Services.AddSingleton<LiveEvents>();
builder.Services.AddSingleton<Peers>();
builder.Services.AddSingleton<RunSignal>();
builder.Services.AddSingleton<WorldHost>();
builder.Services.AddSingleton<RestoreRunner>();
builder.Services.AddScoped<RunEndpoints.Deciding>();
if (!describing)
{
    builder.Services.AddHostedService(s => s.GetRequiredService<Peers>());
    builder.Services.AddHostedService(s => s.GetRequiredService<WorldHost>());
    builder.Services.AddHostedService<RunWorker>();
    if (builder.Configuration["webhook"] is { Length: > 0 } webhook)
    {
        builder.Services.AddHttpClient();
        builder.Services.AddSingleton<INoticeChannel>(s => new WebhookChannel(s.GetRequiredService<IHttpClientFactory>().CreateClient(), new Uri(webhook)));
        builder.Services.AddHostedService<NoticeSender>();
    }
}

var app = builder.Build();
app.UseExceptionHandler();
app.UseResponseCompression();
app.Use((context, next) =>
{
    // Nothing but what ships with the product may run or load.
    context.Response.Headers.ContentSecurityPolicy =
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'";
    context.Response.Headers.XContentTypeOptions = "nosniff";
    context.Response.Headers["Referrer-Policy"] = "no-referrer";
    return next(context);
});
app.UseDefaultFiles();
app.UseStaticFiles(new StaticFileOptions
{
    OnPrepareResponse = c => c.Context.Response.Headers.CacheControl =
        c.Context.Request.Path.StartsWithSegments("/assets", StringComparison.Ordinal) ? "public, max-age=31536000, immutable" : "no-cache",
});
app.UseRouting();
app.UseAuthentication();
app.UseAuthorization();
app.UseMiddleware<AntiforgeryCheck>();
app.MapGet("/healthz", (FleetState fleet, WorldHost world) => fleet.Loaded && (!world.IsDemo || world.World is not null)
    ? Results.Text("ok")
    : Results.Text("starting", statusCode: 503)).AllowAnonymous().ExcludeFromDescription();
app.MapOpenApi("/api/openapi.json").AllowAnonymous();
SignInEndpoints.Map(app);
FleetEndpoints.Map(app);
DatabaseEndpoints.Map(app);
RecoverEndpoints.Map(app);
RunEndpoints.Map(app);
PlanEndpoints.Map(app);
PauseEndpoints.Map(app);
TimetableEndpoints.Map(app);
TaskRunEndpoints.Map(app);
NoticeEndpoints.Map(app);
LedgerEndpoints.Map(app);
FileEndpoints.Map(app);
WorldEndpoints.Map(app);
LiveEndpoints.Map(app);
app.Map("/api/{**rest}", (HttpContext c) => Problems.WriteAsync(c, 404, "not-found", "", "There is no such endpoint.")).AllowAnonymous().ExcludeFromDescription();
app.MapFallbackToFile("index.html").AllowAnonymous();

if (!describing)
{
    await ImbrekDatabase.MigrateAsync(source);
    await using (var scope = app.Services.CreateAsyncScope())
    {
        await DemoSeed.PeopleAsync(scope.ServiceProvider, demo.Folder is not null);
    }

    if (demo.Folder is not null)
    {
        await DemoSeed.WorldAsync(source, demo.Folder, demo, Console.WriteLine, app.Lifetime.ApplicationStopping);
    }

    await app.Services.GetRequiredService<RunHealth>().LoadAsync(app.Lifetime.ApplicationStopping);
}

await app.RunAsync();
return 0;

/// <summary>Lets tests start the server.</summary>
internal sealed partial class Program;
