// Adjusts the scene that `fennik bench --bundle FILE` writes with Ceres: Levenberg-Marquardt, sparse Schur complement,
// automatic derivatives, Cauchy's loss, the same unknowns and start. Prints the cost, px^2, against the seconds.
#include <ceres/ceres.h>
#include <ceres/rotation.h>

#include <cstdio>
#include <fstream>
#include <vector>

namespace {

struct Reprojection {
    double u, v, cx, cy;

    template <typename T>
    bool operator()(const T* camera, const T* lens, const T* point, T* residual) const {
        T p[3];
        ceres::AngleAxisRotatePoint(camera, point, p);
        for (int i = 0; i < 3; ++i) p[i] += camera[3 + i];
        const T x = p[0] / p[2], y = p[1] / p[2];
        const T gain = lens[0] * (T(1) + lens[1] * (x * x + y * y));
        residual[0] = gain * x + T(cx) - T(u);
        residual[1] = gain * y + T(cy) - T(v);
        return true;
    }
};

}  // namespace

int main(int count, char** arguments) {
    if (count != 2) {
        std::fprintf(stderr, "usage: ceres FILE\n");
        return 1;
    }
    std::ifstream in(arguments[1]);
    size_t cameras, points, observations;
    double loss, lens[2], cx, cy;
    in >> cameras >> points >> observations >> loss >> lens[0] >> lens[1] >> cx >> cy;
    std::vector<double> poses(6 * cameras), places(3 * points);
    for (double& v : poses) in >> v;
    for (double& v : places) in >> v;
    ceres::Problem problem;
    auto* order = new ceres::ParameterBlockOrdering;
    for (size_t i = 0; i < observations; ++i) {
        size_t camera, point;
        Reprojection seen{0, 0, cx, cy};
        in >> camera >> point >> seen.u >> seen.v;
        auto* cost = new ceres::AutoDiffCostFunction<Reprojection, 2, 6, 2, 3>(new Reprojection(seen));
        problem.AddResidualBlock(cost, new ceres::CauchyLoss(loss), &poses[6 * camera], lens, &places[3 * point]);
    }
    if (!in) {
        std::fprintf(stderr, "%s is cut off\n", arguments[1]);
        return 1;
    }
    for (size_t i = 0; i < points; ++i) order->AddElementToGroup(&places[3 * i], 0);
    for (size_t i = 0; i < cameras; ++i) order->AddElementToGroup(&poses[6 * i], 1);
    order->AddElementToGroup(lens, 1);
    ceres::Solver::Options options;
    options.linear_solver_type = ceres::SPARSE_SCHUR;
    options.linear_solver_ordering.reset(order);
    options.num_threads = 2;
    options.max_num_iterations = 60;
    options.function_tolerance = 1e-9;
    options.gradient_tolerance = options.parameter_tolerance = 1e-14;
    ceres::Solver::Summary summary;
    ceres::Solve(options, &problem, &summary);
    for (const auto& step : summary.iterations) {
        if (step.step_is_successful || step.iteration == 0) {
            std::printf("%.6f %.9f\n", summary.preprocessor_time_in_seconds + step.cumulative_time_in_seconds, 2 * step.cost);
        }
    }
}
